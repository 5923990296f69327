import type { Rulebook } from '../../rules/index.js'
import { tableNamed } from '../names.js'
import { readCatalogue } from './choose.js'
import { outermost } from './place.js'
import { knownColumns } from './planned.js'
import type { Catalogue } from './reaches.js'
import type { SqlStore } from './sql-store.js'

/** How many records of a table are counted at most. */
export const COUNTED = 1_000_000

/** How many records a table has; of more than a million, that many. */
export async function countedUp(store: SqlStore, rulebook: Rulebook, table: string): Promise<number> {
  const from = tableNamed({ dialect: store.dialect, rulebook }, table)
  const { rows } = await store.query(
    `SELECT count(*) AS "all" FROM (SELECT 1 FROM ${from} LIMIT ${COUNTED}) AS counted`,
    [],
  )
  return Number(rows[0]?.['all'])
}

/** The fields of the model that are the first of an index, by table, and about how many records each table has. */
export async function readIndexes(store: SqlStore, rulebook: Rulebook): Promise<Catalogue> {
  const { dialect } = store
  return readCatalogue({ rulebook, dialect, columns: await knownColumns(store, rulebook) }, outermost(store))
}
