// Korenveld in a database of each kind, for measurements over HTTP.
import Database from 'better-sqlite3'
import mysql from 'mysql2/promise'
import pg from 'pg'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createTables, insertRecord, resumeNumbers, type SqlStore } from 'pachter/sql'
import { readData } from '../../examples/allotment/database.js'
import { model } from '../../examples/allotment/model.js'
import { startMariadb, startPostgresql } from '../../test/support/servers.js'

export interface Opened {
  readonly name: string
  readonly store: SqlStore
  /** Runs a query by hand on the same driver: of PostgreSQL prepared, as ours are. */
  readonly run: (text: string, values: readonly unknown[]) => Promise<readonly object[]>
  close(): Promise<void>
}

export const openers: Readonly<Record<string, () => Promise<Opened>>> = {
  SQLite: async () => {
    const database = new Database(':memory:')
    const prepared = new Map<string, ReturnType<typeof database.prepare>>()
    const statement = (text: string) => prepared.get(text) ?? prepared.set(text, database.prepare(text)).get(text)
    return filled({
      name: 'SQLite',
      store: sqliteStore(database),
      run: (text, values) => Promise.resolve((statement(text)?.all as (...given: unknown[]) => object[])(...values)),
      close: async () => void database.close(),
    })
  },
  PostgreSQL: async () => {
    const server = await startPostgresql()
    const pool = new pg.Pool({ connectionString: server.url })
    return filled({
      name: 'PostgreSQL',
      store: postgresqlStore(pool),
      run: async (text, values) => (await pool.query({ name: text.slice(0, 60), text, values: [...values] })).rows,
      close: () => pool.end().then(server.stop),
    })
  },
  MariaDB: async () => {
    const server = await startMariadb()
    const pool = mysql.createPool({ uri: server.url })
    return filled({
      name: 'MariaDB',
      store: mariadbStore(pool as never),
      run: async (text, values) => (await pool.execute(text, values as never))[0] as object[],
      close: () => pool.end().then(server.stop),
    })
  },
}

async function filled(opened: Opened): Promise<Opened> {
  const { store } = opened
  for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
  for (const [table, records] of Object.entries(await readData())) {
    for (const record of records) {
      const { text, values } = insertRecord(model, store.dialect, table, record)
      await store.query(text, [...values])
    }
    const resume = resumeNumbers(model, store.dialect, table)
    if (resume !== undefined) await store.query(resume, [])
  }
  return opened
}
