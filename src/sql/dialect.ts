import type { Form } from '../guard/index.js'
import type { Shape } from '../model/index.js'
import type { Comparisons } from './compare.js'
import type { Fragment, Need } from './fragment.js'
import type { StoredTypes } from './stored.js'

/** What drivers tell of an error. */
export interface DriverError {
  readonly code?: unknown
  readonly errno?: unknown
  readonly errcode?: unknown
}

/** What differs between databases: how a thing is written, and how values travel. */
export interface Dialect {
  readonly name: 'postgresql' | 'sqlite' | 'mariadb'
  /** Whether one value can stand in several places by its number, instead of once for each. */
  readonly numbered: boolean
  /** Whether every write can return what it wrote; else only a create can, the keys, and the driver says how many records. */
  readonly returning: boolean
  /** Whether what a write returns goes by the table's alias. */
  readonly aliasReturned: boolean
  /** What an error of the driver means, where it is one that the database is expected to have. */
  problem(error: DriverError): DatabaseProblem | undefined
  /** Whether an error inside a transaction makes the whole of it fail, unless it happened in a part of its own. */
  readonly failsWhole: boolean
  /** What begins a transaction in which a statement that comes after a lock sees what was committed before it. */
  readonly begin: readonly string[]
  /** How a SELECT locks what it finds: to be written, or to be there while what refers to it is written. */
  readonly locks?: { readonly write: string; readonly refer: string }
  /** What a SELECT of values alone selects from, such as ` FROM DUAL`. */
  readonly fromNothing: string
  /** A name, quoted. */
  identifier(name: string): string
  /** How each type is stored. */
  readonly types: StoredTypes
  /** The SQL of each comparison. */
  readonly comparisons: Comparisons
  /** Whether two values are equal, exactly, and both present. */
  equal(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether two values are equal, exactly, or both missing. */
  same(left: Fragment, right: Fragment, shape: Shape): Fragment
  /** Whether a column's value is among those that a subquery about the caller alone selects, exactly. */
  among(column: Fragment, source: Subquery, shape: Shape, form: Form): Fragment
  /** Whether a subquery, looked into for one record, finds this value, exactly. */
  finds(value: Fragment, source: Subquery, shape: Shape, form: Form): Fragment
  /** Whether a gathered filter joins the keys that each branch finds, instead of testing them in place. */
  readonly joinsBranches: boolean
  /** What stands at the end of a subquery that is to be answered on its own, where the planner would merge it. */
  readonly fence?: string
  /** A column to sort by, so that the planner does not go through its index, where no fence keeps it from that. */
  unindexed?(column: Fragment): Fragment
  /** What each form costs, in microseconds about, by record; \`read\` is only to go past it. Measured, see docs/benchmarks.md. */
  readonly costs: Readonly<Record<Form | 'read', number>>
  /** Whether an index serves an order that goes on in another direction than it began. */
  readonly turnsOrder: boolean
  /**
   * Tells of each index its `table` with its `schema`, whether that is the connection's `own`, and the first `column`, and
   * about how many `rows` the table has: in the connection's own schema, and in these.
   */
  catalogue(schemas: Fragment): Fragment
  /** Tells the `rows` of a table, about, where the catalogue does not. */
  rows?(table: Fragment): Fragment
  /** At most so many rows, after leaving so many out. */
  limit(count: Fragment | undefined, skipped?: Fragment): Fragment
  /** What stands before a statement that needs something; left out, every statement runs as it is. */
  apart?(needs: ReadonlySet<Need['need']>): string
  /** Whether what is worked out step by step can begin at a record around it. */
  readonly correlates: boolean
  /** A stored moment cut to the millisecond, as values have it. */
  instant(moment: Fragment): Fragment
  /** The first or the last moment that the database has in a millisecond, as the driver takes it to compare with. */
  edge(moment: Date, edge: 'first' | 'last'): unknown
  /** A text that compares exactly, where the column's own order holds different texts to be equal. */
  exact?(text: Fragment): Fragment
  /** What of a long text it is sorted by, where the database itself does not look further. */
  beginning?(text: Fragment): Fragment
  /** Tells of the columns that are not as the model takes them to be: where they are, and their {@link Trait}. */
  traits?(schemas: Fragment): Fragment
  /** A column with this trait as values have it; left out, as it is. */
  readable?(column: Fragment, trait: Trait): Fragment | undefined
  /** A value as such a column takes it; left out, as it is. */
  writable?(value: Fragment, trait: Trait, place: Place): Fragment | undefined
  /** A value as something that an index on such a column finds; left out, as it is written. */
  searchable?(value: Fragment, trait: Trait, place: Place): Fragment | undefined
  /** Selects the number of a new record, where nothing else of it is given; the table is quoted, the column is not. */
  selectNumber(table: string, column: string): Fragment
  /** How to sort by a column, missing values before all others. */
  order(column: Fragment, descending: boolean, optional: boolean): Fragment
  /** Several values as one JSON array. */
  jsonArray(values: readonly Fragment[]): Fragment
  /** What a subquery selects, in its order, as one JSON array. */
  jsonList(list: JsonList): Fragment
  /** A list of {@link jsonList} as a column of its own, so that the driver hands it on as it is. */
  listColumn(list: Fragment): Fragment
  /** Reads a list of {@link jsonList}. */
  readList(json: unknown): ReadList
  /** Makes a schema, quoted, where none is there; on SQLite in memory. */
  createSchema(schema: string): string
  /** What an index that finds values of a column is on, where that is not the column: `isLong` where it cannot take all of one. */
  indexed?(column: string, shape: Shape, isLong: boolean): string
  /** Has the numbers that a column hands out follow on those that are there, where it does not by itself. */
  numberOn?(table: string, column: string): string
}

/**
 * What an error of a database means. `constraint`: a foreign key or a trigger is against it; `misfit`: a value is none that its
 * column or a check takes; `busy`: another transaction is in the way, and it can be tried again; `cancelled`: the statement was
 * ended early, and did nothing; `unanswered`: the error is not the database's own, such as of a connection that broke, and what
 * was asked may have been done.
 */
export type DatabaseProblem = 'duplicate' | 'constraint' | 'misfit' | 'busy' | 'cancelled' | 'unanswered'

/**
 * What a column can be that a field does not say.
 *
 * Moments: `fine`, finer than a millisecond (times: than a second); `zoneless`, taken to be in UTC; `zoned`, read and written in
 * the session's zone, which is not UTC.
 *
 * Texts: `loose`, different ones count as equal; `long`, sorted by their beginning only; `padded`, stored with
 * blanks behind them, which are therefore lost as a part of them;
 * `textual`, of a type of its own that reads as text; `words`, of one that lists the words there can be; `other`, sorted by another
 * collation than most, so that the two cannot be compared as they are; `short`, of at most so many characters as `size` tells.
 *
 * Lists: `texts` and `numbers`, whose items are of another type of texts, or of smaller whole numbers.
 *
 * Any: `lax`, of what does not fit, something else is stored in silence, unless the statement forbids it; `lasting`, what is
 * written to its table no transaction takes back, and nothing there is locked until one ends.
 */
export const TRAITS = [
  'fine',
  'zoneless',
  'loose',
  'long',
  'padded',
  'textual',
  'words',
  'other',
  'lax',
  'short',
  'zoned',
  'lasting',
  'texts',
  'numbers',
] as const

/** One of {@link TRAITS}. */
export type Trait = (typeof TRAITS)[number]

/** A column of the database: its table and its name as statements have them. */
export interface Place {
  readonly table: Fragment
  readonly column: Fragment
  /** Its name as a text. */
  readonly named: Fragment
}

/** Which columns have which traits, by their place in the database. */
export type Traits = ReadonlyMap<string, ReadonlySet<Trait>>

/** A JSON value for each record of a table that meets a condition. */
export interface JsonList {
  readonly each: Fragment
  readonly source: Fragment
  readonly where: Fragment
  readonly order: Fragment
  readonly limit?: Fragment
}

/** The records of a list in JSON, and whether they are all: a database may have cut it off. */
export interface ReadList {
  readonly records: readonly (readonly unknown[])[]
  readonly whole: boolean
}

/** A subquery on one table: what it selects, where from, and under which condition. */
export interface Subquery {
  readonly selected: Fragment
  readonly source: Fragment
  readonly where: Fragment
  /** Whether the condition looks at records around the subquery, besides the value that is looked for. */
  readonly looksOut: boolean
}

/** How many digits a decimal has behind the point, as SQL text: a number and nothing else, wherever it comes from. */
export function digits(scale: unknown): string {
  if (Number.isInteger(scale)) return String(scale)
  throw new TypeError('The scale of a decimal is a whole number.')
}

/** What an error means, as far as the dialect knows. */
export const problemOf = (dialect: Dialect, error: unknown): DatabaseProblem | undefined =>
  typeof error === 'object' && error !== null ? dialect.problem(error as DriverError) : undefined
