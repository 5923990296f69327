import { type Bindings, type Plan, withAnswer } from '../../guard/index.js'
import type { DriverRow } from '../answers.js'
import type { Compilation } from '../condition.js'
import type { Statement } from '../statement.js'
import type { SqlPlace } from './place.js'
import { query } from './query.js'
import { Columns } from './columns.js'
import type { Database, Outcome } from './sql-store.js'
import type { Rulebook } from '../../rules/index.js'
import type { Dialect } from '../dialect.js'
import type { Reaches } from './reaches.js'

/** What plans are made with: the rules, the database's dialect, and what is known of its columns and sizes. */
export interface Workshop {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  readonly columns: Columns
  readonly reaches: Reaches
}

/** What everything is compiled with. */
export const compilationOf = ({ rulebook, dialect, columns }: Workshop): Compilation => ({
  rulebook,
  dialect,
  traits: columns.traits,
})

/** A database that is asked something. */
type Asked = Pick<Database, 'dialect' | 'query'>

/** What is known of a store's columns, read where it was not. */
export async function knownColumns(store: Asked, { model }: Rulebook): Promise<Columns> {
  const columns = Columns.of(store, model)
  if (!columns.areKnown) {
    await columns.read(async ({ text, bind }) => (await store.query(text, bind(NOBODY))).rows)
  }
  return columns
}

/** What statements are compiled with that are run on a store by themselves, past any guard. */
export async function compilationOn(store: Asked, rulebook: Rulebook): Promise<Compilation> {
  return { rulebook, dialect: store.dialect, traits: (await knownColumns(store, rulebook)).traits }
}

/** Runs a statement with the caller's, the clock's and the given values in its slots. */
export const runStatement = (
  dialect: Dialect,
  at: SqlPlace,
  statement: Statement,
  bindings: Bindings,
): Outcome | Promise<Outcome> => query(dialect, at, statement.text, statement.bind(bindings), bindings.signal)

/** What a database tells of itself. */
export async function tell(dialect: Dialect, at: SqlPlace, { text, bind }: Statement): Promise<readonly DriverRow[]> {
  const { rows } = await query(dialect, at, text, bind(NOBODY))
  return rows
}

const NOBODY: Bindings = { caller: { signedIn: false, roles: [], attributes: {} }, clock: () => new Date(), given: {} }

/** How many bytes a statement takes beside its text, by character of it. */
const BY_CHARACTER = 4

/** A plan of one statement. */
export function planOf<T>(dialect: Dialect, statement: Statement, read: (outcome: Outcome) => T): Plan<T> {
  return {
    bytes: bytesOf(statement),
    run: (at: SqlPlace, bindings: Bindings) => withAnswer(runStatement(dialect, at, statement, bindings), read),
  }
}

export const bytesOf = ({ text }: Statement): number => BY_CHARACTER * text.length
