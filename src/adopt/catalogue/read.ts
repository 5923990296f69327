import type { SqlStore } from '../../sql/index.js'
import type { Ask, Catalogue, CatalogueTable } from './catalogue.js'
import { readMariadb } from './mariadb.js'
import { readPostgresql } from './postgresql.js'
import { readSqlite } from './sqlite.js'

const READERS: Readonly<Record<Catalogue['dialect'], (ask: Ask) => Promise<readonly CatalogueTable[]>>> = {
  postgresql: readPostgresql,
  sqlite: readSqlite,
  mariadb: readMariadb,
}

/**
 * Reads what a database says of itself: tables, columns, keys, references. Nothing is written.
 *
 * @param store any store on the database
 * @throws what the driver throws, where the database does not answer
 * @example await readCatalogue(postgresqlStore(pool))
 */
export async function readCatalogue(store: Pick<SqlStore, 'dialect' | 'query'>): Promise<Catalogue> {
  const { name: dialect } = store.dialect
  const ask: Ask = async <R>(text: string) => (await store.query(text, [])).rows as readonly R[]
  return { dialect, tables: await READERS[dialect](ask) }
}
