import type { StoredTable } from '../../model/index.js'
import { placeOf, schemasIn } from '../names.js'
import { render } from '../statement.js'
import { sqlStore } from './backend.js'
import { Columns } from './columns.js'
import { LastingTableError } from './lasting.js'
import { Level } from './level.js'
import { outermost } from './place.js'
import { tell } from './planned.js'
import type { SqlStore } from './sql-store.js'
import { placesIn } from './told.js'

/**
 * Runs work on a store whose writes are all taken back afterwards, whatever comes of it: to try something on a
 * real database. It is one transaction that never commits, so that an interrupted process leaves nothing either.
 * What a database does outside of transactions stays done: a number it handed out for a key is not handed out again.
 *
 * @param tables the tables that may be written, as the database calls them
 * @throws {LastingTableError} where the database does not take back what is written to one of them, as with some of
 *   MariaDB's engines
 * @example
 * const seen = await withoutTrace(store, [storedTable(model, 'entries')], async (inside) => {
 *   const guard = createGuard({ rules, store: inside })
 *   await guard.as(ana).update('entries', 1, { audience: 'public' })
 *   return guard.as(ben).list('entries')
 * })
 */
export async function withoutTrace<T>(
  store: SqlStore,
  tables: readonly Written[],
  work: (inside: SqlStore) => Promise<T>,
): Promise<T> {
  await assertTakenBack(store, tables)
  const outcome: { done?: T } = {}
  try {
    await store.transaction((connection) =>
      Level.whole(connection, store.dialect, async (level) => {
        outcome.done = await work(storeInside(store, level))
        throw TAKE_BACK
      }),
    )
  } catch (error) {
    if (error !== TAKE_BACK) throw error
  }
  return outcome.done as T
}

/** Thrown through a transaction to end it without a commit. */
const TAKE_BACK = new Error('Everything is taken back.')

/** A store inside a transaction: its own transactions are parts of that one. */
function storeInside(store: SqlStore, level: Level): SqlStore {
  const { dialect } = store
  const inside = sqlStore({
    dialect,
    // A write on its own is a part of its own: where the database refuses it, the rest goes on.
    query: (text, values, signal) =>
      dialect.failsWhole && !text.startsWith('SELECT')
        ? level.transaction((part) => part.query(text, values, signal))
        : level.query(text, values, signal),
    transaction: (work) => level.transaction(work),
  })
  return Columns.share(inside, store)
}

/** A table that is written to. */
interface Written extends StoredTable {
  readonly name: string
}

async function assertTakenBack(store: SqlStore, tables: readonly Written[]): Promise<void> {
  const { dialect } = store
  const traits = dialect.traits?.(schemasIn(tables.flatMap(({ schema }) => schema ?? [])))
  if (!traits || tables.length === 0) return
  const rows = await tell(dialect, outermost(store), render(traits, dialect))
  const lasting = rows.filter(({ trait }) => trait === 'lasting')
  const places = new Set(lasting.flatMap((row) => placesIn(row, 'table')))
  const found = tables.filter(({ schema, name }) => places.has(placeOf(schema, name)))
  if (found.length > 0) throw new LastingTableError(found.map(({ name }) => name))
}
