import mysql from 'mysql2/promise'
import type { Data } from 'pachter'
import type { ModelData } from 'pachter/model'
import type { SqlStore } from 'pachter/sql'
import { mariadbStore } from 'pachter/connect/mariadb'
import { data, model } from './allotted.js'
import { type Engine, load, openEngines } from './engines.js'

/** A database with some records in it. */
export interface Opened {
  readonly name: string
  readonly store: SqlStore
  /** What was sent, outside of transactions. */
  readonly sent: string[]
  raw(text: string): Promise<unknown>
  /** Makes a column of moments finer than a millisecond, each with some microseconds more. */
  finer(table: string, column: string): Promise<void>
  /** Where the database is. */
  readonly pool: string
}

/** Runs something on every engine, or on some, each time with the records as they were. */
export async function onEach(
  model: ModelData,
  data: Data,
  work: (opened: Opened) => Promise<unknown>,
  only?: readonly string[],
): Promise<void> {
  for (const engine of await openEngines()) {
    if (only && !only.includes(engine.name)) continue
    await load(engine, model, data)
    try {
      await work(opened(engine))
    } catch (error) {
      if (error instanceof Error) error.message = `${engine.name}: ${error.message}`
      throw error
    }
  }
}

function opened({ name, store: engine, url = '' }: Engine): Opened {
  const sent: string[] = []
  const store: SqlStore = {
    ...engine,
    query: (text, values) => {
      sent.push(text)
      return engine.query(text, values)
    },
  }
  const raw = async (text: string) => engine.query(text, [])
  const q = store.dialect.identifier
  return {
    name,
    store,
    sent,
    raw,
    pool: url,
    finer: async (table, column) => {
      const [of, moment] = [q(table), q(column)]
      // From the record with the highest key down, so that their order by the microsecond is not that of their keys.
      if (store.dialect.name === 'postgresql') {
        await raw(`ALTER TABLE ${of} ALTER COLUMN ${moment} TYPE timestamptz(6)`)
        await raw(`UPDATE ${of} SET ${moment} = ${moment} + (900 - id * 100) * interval '1 microsecond'`)
      } else if (store.dialect.name === 'mariadb') {
        await raw(`ALTER TABLE ${of} MODIFY ${moment} DATETIME(6)`)
        await raw(`UPDATE ${of} SET ${moment} = ${moment} + INTERVAL (900 - id * 100) MICROSECOND`)
      }
    },
  }
}

/** A pool of its own, for requests at the same time. */
export const mysqlPool = (uri: string): SqlStore => mariadbStore(mysql.createPool({ uri, connectionLimit: 4 }) as never)

/** Runs a test on every engine, or on some, with the records of all these tests. */
export const each = (title: string, work: (opened: Opened) => Promise<unknown>, only?: readonly string[]) =>
  it(title, () => onEach(model, data, work, only))
