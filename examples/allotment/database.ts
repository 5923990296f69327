import { readFile } from 'node:fs/promises'
import { PGlite } from '@electric-sql/pglite'
import { createTables, insertRecord } from 'pachter/sql'
import type { Store } from 'pachter/store'
import { pgliteStore } from 'pachter/store/pglite'
import { model } from './model.js'

type DemoRecord = Readonly<Record<string, unknown>>

/** The demo's records, read from the files in `data/`. */
export async function readData(): Promise<Readonly<Record<string, readonly DemoRecord[]>>> {
  const tables = await Promise.all(
    Object.entries(model.tables).map(async ([table, { fields }]) => {
      const file = await readFile(new URL(`data/${table}.json`, import.meta.url), 'utf8')
      const records = (JSON.parse(file) as DemoRecord[]).map((record) =>
        Object.fromEntries(
          Object.entries(record).map(([name, value]) =>
            fields[name]?.type === 'timestamp' && typeof value === 'string' ? [name, new Date(value)] : [name, value],
          ),
        ),
      )
      return [table, records] as const
    }),
  )
  return Object.fromEntries(tables)
}

/** A fresh database in memory with the demo's tables and records. */
export async function openDemoStore(): Promise<Store> {
  const database = await PGlite.create()
  const store = pgliteStore(database)
  for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
  for (const [table, records] of Object.entries(await readData())) {
    for (const record of records) {
      const { text, values } = insertRecord(model, store.dialect, table, record)
      await store.query(text, [...values])
    }
    if (model.tables[table]?.fields['id']?.generated) {
      // The next record the database numbers itself follows on.
      await store.query(`SELECT setval(pg_get_serial_sequence('"${table}"', 'id'), $1::bigint)`, [records.length])
    }
  }
  return { ...store, close: () => database.close() }
}
