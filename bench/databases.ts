// Opens the databases of the measurements, filled, each with a way to run a query by hand.
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import Database from 'better-sqlite3'
import mysql from 'mysql2/promise'
import pg from 'pg'
import type { SqlStore } from 'pachter/sql'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { startMariadb, startPostgresql } from '../test/support/servers.js'

/** A query by hand, prepared, through the same driver. */
export type Run = (text: string) => (values: readonly unknown[]) => Promise<readonly object[]>

export interface Bench {
  readonly name: string
  readonly store: SqlStore
  readonly run: Run
  close(): Promise<void>
}

/** Marks placeholders as a driver has them; `@` is the member, `#` the key. */
function marked(text: string, numbered: boolean): { text: string; order: readonly ('@' | '#' | '?')[] } {
  const order: ('@' | '#' | '?')[] = []
  const written = text.replace(/[@#?]/g, (mark) => {
    order.push(mark as '@')
    return numbered ? `$${order.length}` : '?'
  })
  return { text: written, order }
}

/** The values in the order of their marks: the member first, then the key; or, for bare marks, as they are. */
const ordered = (order: readonly string[], values: readonly unknown[]) =>
  order.includes('?') ? [...values] : order.map((mark) => (mark === '@' ? values[0] : values[1]))

export const openers: Readonly<Record<string, () => Promise<Bench>>> = {
  SQLite: async () => {
    const folder = mkdtempSync(join(tmpdir(), 'pachter-bench-'))
    const database = new Database(join(folder, 'korenveld.db'))
    // What an app would set.
    database.pragma('journal_mode = WAL')
    database.pragma('synchronous = NORMAL')
    database.pragma('cache_size = -512000')
    const run: Run = (query) => {
      const { text, order } = marked(query, false)
      const statement = database.prepare(text)
      return async (values) => statement.all(...ordered(order, values)) as object[]
    }
    return {
      name: 'SQLite',
      store: sqliteStore(database),
      run,
      close: async () => (database.close(), rmSync(folder, { recursive: true })),
    }
  },
  PostgreSQL: async () => {
    const server = await startPostgresql()
    const pool = new pg.Pool({ connectionString: server.url, max: 1 })
    let count = 0
    const run: Run = (query) => {
      const { text, order } = marked(query, true)
      const name = `hand_${(count += 1)}`
      return async (values) => (await pool.query({ name, text, values: ordered(order, values) })).rows as object[]
    }
    const close = () => pool.end().then(server.stop)
    return { name: 'PostgreSQL', store: postgresqlStore(pool), run, close }
  },
  MariaDB: async () => {
    const server = await startMariadb()
    const pool = mysql.createPool({ uri: server.url, connectionLimit: 1 })
    const run: Run = (query) => {
      const { text, order } = marked(query, false)
      return async (values) => (await pool.execute(text, ordered(order, values) as never[]))[0] as object[]
    }
    const close = () => pool.end().then(server.stop)
    return { name: 'MariaDB', store: mariadbStore(pool as never), run, close }
  },
}
