import { RefusedError } from '../decide/index.js'
import { InputError, type KeyValues, printKey, readKey } from '../model/index.js'
import type { Action } from '../rules/index.js'
import { type BulkRefusal, BulkRefusedError } from './errors.js'
import type { ReadRecord } from './reads.js'
import { atomically, keySlots, run, type Session } from './session.js'
import { change, create, prepareChange, prepareRemoval, remove } from './writes.js'

/** What a bulk write does about records that are refused. */
export interface BulkOptions {
  /** Writes those that are permitted and reports the others, instead of writing none. */
  readonly partly?: boolean
}

/** What came of a bulk write in part. */
export interface BulkOutcome<T> {
  readonly written: readonly T[]
  readonly refused: readonly BulkRefusal[]
}

/** What a bulk write returns, by what was asked. */
export type BulkResult<T, O> = O extends { readonly partly: true } ? BulkOutcome<T> : readonly T[]

/** How many records one statement writes at most. */
const CHUNK = 64

/** Stores several new records. */
export const createMany = (session: Session, table: string, all: readonly unknown[], options: BulkOptions = {}) =>
  eachInTurn(session, table, [...all.keys()], options, (inside, at) => create(inside, table, all[at]))

/** Changes several records to the same values, by an update or an action of the table's own. */
export async function changeMany(
  session: Session,
  table: string,
  action: Action,
  keys: readonly unknown[],
  values: unknown,
  options: BulkOptions = {},
) {
  const read = keys.map((key) => readKey(session.rulebook.model, table, key))
  const records = session.dialect.returning && (await changeTogether(session, table, action, read, values))
  if (records) return options.partly ? { written: records, refused: [] } : records
  return eachInTurn(session, table, keys, options, (inside, key) => change(inside, table, action, key, values))
}

/** Removes several records. */
export async function deleteMany(
  session: Session,
  table: string,
  keys: readonly unknown[],
  options: BulkOptions = {},
): Promise<BulkOutcome<unknown> | undefined> {
  const read = keys.map((key) => readKey(session.rulebook.model, table, key))
  if (!(await removeTogether(session, table, read))) {
    const done = await eachInTurn(session, table, keys, options, async (inside, key) => {
      await remove(inside, table, key)
      return key
    })
    return options.partly ? (done as BulkOutcome<unknown>) : undefined
  }
  return options.partly ? { written: keys, refused: [] } : undefined
}

/** Some record was not written; then each is asked about on its own. */
const NOT_ALL = Symbol('not all')

/** Changes records by as few statements as can be, if nothing stands in the way of any. */
async function changeTogether(
  session: Session,
  table: string,
  action: Action,
  keys: readonly KeyValues[],
  given: unknown,
): Promise<readonly ReadRecord[] | undefined> {
  const name = (record: Readonly<Record<string, unknown>>) => printKey(session.rulebook.model, table, record)
  const { values, planFor } = await prepareChange(session, table, action, given)
  const records = new Map<string, ReadRecord>()
  const done = await allOrNot(session, async (inside) => {
    for (const chunk of chunksOf(keys, name)) {
      const plan = planFor(chunk.length)
      if (!plan) throw NOT_ALL
      const { rows } = await run(inside, plan.statement, { ...values, ...keySlots(...chunk) })
      for (const record of rows.map((row) => plan.read(row as ReadRecord))) records.set(name(record), record)
    }
    return keys.every((key) => records.has(name(key)))
  })
  return done ? keys.map((key) => records.get(name(key)) as ReadRecord) : undefined
}

async function removeTogether(session: Session, table: string, keys: readonly KeyValues[]): Promise<boolean> {
  const name = (record: KeyValues) => printKey(session.rulebook.model, table, record)
  const { planFor } = prepareRemoval(session, table)
  return allOrNot(session, async (inside) => {
    let removed = 0
    for (const chunk of chunksOf(keys, name)) {
      removed += (await run(inside, planFor(chunk.length), keySlots(...chunk))).touched
    }
    return removed === keys.length
  })
}

/** Runs work in a transaction, and takes it back where it does not report that all was done. */
async function allOrNot(session: Session, work: (inside: Session) => Promise<boolean>): Promise<boolean> {
  try {
    return await atomically(session, async (inside) => {
      if (await work(inside)) return true
      throw NOT_ALL
    })
  } catch (error) {
    if (error === NOT_ALL) return false
    throw error
  }
}

/**
 * Keys by the statement, each once. The last one fills a statement up, so that a few sizes of statement serve
 * all numbers of keys.
 */
function chunksOf(keys: readonly KeyValues[], name: (key: KeyValues) => string): readonly (readonly KeyValues[])[] {
  const distinct = [...new Map(keys.map((key) => [name(key), key])).values()]
  return Array.from({ length: Math.ceil(distinct.length / CHUNK) }, (_, at) => {
    const chunk = distinct.slice(at * CHUNK, (at + 1) * CHUNK)
    const size = 2 ** Math.ceil(Math.log2(chunk.length))
    return [...chunk, ...Array.from({ length: size - chunk.length }, () => chunk.at(-1) as KeyValues)]
  })
}

/**
 * Writes to records one after another; each is tried, so that all refusals are reported at once.
 *
 * @throws {BulkRefusedError} where any is refused and not only a part is wanted; nothing is written then
 */
function eachInTurn<K, T>(
  session: Session,
  table: string,
  keys: readonly K[],
  { partly = false }: BulkOptions,
  write: (session: Session, key: K) => Promise<T>,
): Promise<readonly T[] | BulkOutcome<T>> {
  return atomically(session, async (inside) => {
    const written: T[] = []
    const refused: BulkRefusal[] = []
    for (const key of keys) {
      try {
        written.push(await write(inside, key))
      } catch (error) {
        if (!(error instanceof RefusedError || error instanceof InputError)) throw error
        refused.push({ key, status: error.status, message: error.message })
      }
    }
    const [first, ...more] = refused
    if (first && !partly) throw new BulkRefusedError(table, [first, ...more])
    return partly ? { written, refused } : written
  })
}
