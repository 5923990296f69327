import { openFixture, readRecords } from 'pachter/check'
import type { SqlStore } from 'pachter/sql'
import { model } from './model.js'

const DATA = new URL('data/', import.meta.url)

/** The demo's records, read from the files in `data/`. */
export const readData = () => readRecords(model, DATA)

/** A fresh database in memory, PostgreSQL inside the process, with the demo's tables and records. */
export async function openDemoStore(): Promise<SqlStore> {
  return (await openFixture(model, DATA, 'pglite')).store
}
