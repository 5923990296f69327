import { createTogether } from './create-together.js'
import { allOrNot, CHUNK, inOrderOf, isIndependent, NOT_ALL } from './together.js'
import { type Reading } from '../decide/index.js'
import {
  assertKnown,
  assertWithin,
  InputError,
  type KeyValues,
  LIMITS,
  printKey,
  readKey,
  tableOf,
} from '../model/index.js'
import type { Action } from '../rules/index.js'
import { assertObject } from './ask.js'
import type { ReadRecord } from './backend.js'
import { bareKey, type BulkOptions, type BulkOutcome, eachInTurn } from './in-turn.js'
import { keySlots, run, type Session } from './session.js'
import { lockRecords } from './attempt.js'
import { readGiven } from './given.js'
import { findByKeys } from './reads.js'
import { type Change, change, createRead, prepareChange, prepareRemoval, remove } from './writes.js'
import { refuseClosed } from './requests.js'

/** What a bulk write returns, by what was asked. */
export type BulkResult<T, O> = O extends { readonly partly: true } ? BulkOutcome<T> : readonly T[]

/** Stores several new records. */
export async function createMany(session: Session, table: string, all: readonly unknown[], options: BulkOptions = {}) {
  assertMany(all, options)
  tableOf(session.rulebook.model, table)
  refuseClosed(session, { rulebook: session.rulebook, table, action: 'create', caller: session.caller })
  // Each is read once; what is wrong with it is told with the others, in its turn.
  const readings: PromiseSettledResult<Reading>[] = []
  for (const given of Array.from(all))
    readings.push(...(await Promise.allSettled([readGiven(session, table, 'create', given)])))
  const together = await createTogether(session, table, readings)
  if (together) return options.partly ? { written: together, refused: [] } : together
  return eachInTurn(session, table, [...all.keys()], options, async (inside, at) => {
    const reading = readings[at]
    if (reading?.status !== 'fulfilled') throw reading?.reason
    return createRead(inside, table, reading.value)
  })
}

/** Changes several records to the same values, by an update or an action of the table's own. */
export async function changeMany(
  session: Session,
  table: string,
  action: Action,
  given: readonly unknown[],
  values: unknown,
  options: BulkOptions = {},
) {
  assertMany(given, options)
  const prepared = await prepareChange(session, table, action, values)
  const named = keysByName(session, table, given)
  const keys = [...new Map(named).values()]
  const together = await changeTogether(session, table, keys, prepared)
  const done = together || (await eachInTurn(session, table, keys, options, changeOne))
  if (!Array.isArray(done)) return done as BulkOutcome<ReadRecord>
  if (options.partly) return { written: done, refused: [] }
  // A record is written once, and returned as often as it was named.
  const places = new Map([...new Map(named).keys()].map((name, at) => [name, at]))
  return named.map(([name]) => done[places.get(name) as number] as ReadRecord)

  function changeOne(inside: Session, key: KeyValues): Promise<ReadRecord> {
    return change(inside, table, action, key, values)
  }
}

/** Removes several records. */
export async function deleteMany(
  session: Session,
  table: string,
  given: readonly unknown[],
  options: BulkOptions = {},
): Promise<BulkOutcome<unknown> | undefined> {
  assertMany(given, options)
  const removal = prepareRemoval(session, table)
  const keys = [...new Map(keysByName(session, table, given)).values()]
  if (!(await removeTogether(session, table, keys, removal))) {
    const done = await eachInTurn(session, table, keys, options, async (inside, key) => {
      await remove(inside, table, key)
      return bareKey(key)
    })
    return options.partly ? (done as BulkOutcome<unknown>) : undefined
  }
  return options.partly ? { written: keys.map(bareKey), refused: [] } : undefined
}

function assertMany(all: unknown, options: BulkOptions): void {
  assertObject('a bulk write', 'options', options)
  assertKnown('option', options, ['partly'], 'a bulk write')
  if (!['boolean', 'undefined'].includes(typeof options.partly))
    throw new InputError('a bulk write', { partly: 'must be true or false' })
  if (!Array.isArray(all)) throw new InputError('a bulk write', { records: 'must be a list' })
  assertWithin('records in one bulk write', all.length, LIMITS.bulkRecords)
}

/** The keys as they were given, by a text that equal ones share. */
function keysByName({ rulebook: { model } }: Session, table: string, given: readonly unknown[]) {
  return Array.from(given, (key): readonly [string, KeyValues] => {
    const read = readKey(model, table, key)
    return [printKey(model, table, read), read]
  })
}

/** Changes records by as few statements as can be, if nothing stands in the way of any. */
async function changeTogether(
  session: Session,
  table: string,
  keys: readonly KeyValues[],
  { reading, planFor }: Change,
): Promise<readonly ReadRecord[] | undefined> {
  const name = (record: Readonly<Record<string, unknown>>) => printKey(session.rulebook.model, table, record)
  const first = reading.problems.size === 0 ? planFor(1) : undefined
  if (!first || !isIndependent(session, table, first.condition, false)) return undefined
  const records = new Map<string, ReadRecord>()
  const done = await allOrNot(session, async (inside) => {
    for (const chunk of chunksOf(keys)) {
      const write = planFor(chunk.length)
      if (!write) throw NOT_ALL
      if (write.rests) await lockRecords(inside, table, chunk)
      const written = await run(inside, write.plan, { ...reading.values, ...keySlots(...chunk) })
      const distinct = new Map(chunk.map((key) => [name(key), key]))
      if (written.touched !== distinct.size) throw NOT_ALL
      const seen =
        written.records?.() ?? inOrderOf(inside, table, [...distinct.values()], await findByKeys(inside, table, chunk))
      for (const record of seen) records.set(name(record), record)
    }
    return keys.every((key) => records.has(name(key)))
  })
  return done ? keys.map((key) => records.get(name(key)) as ReadRecord) : undefined
}

async function removeTogether(
  session: Session,
  table: string,
  keys: readonly KeyValues[],
  { planFor }: ReturnType<typeof prepareRemoval>,
): Promise<boolean> {
  const first = planFor(1)
  if (!first || !isIndependent(session, table, first.condition, true)) return false
  return allOrNot(session, async (inside) => {
    let removed = 0
    for (const chunk of chunksOf(keys)) {
      const write = planFor(chunk.length)
      if (!write) throw NOT_ALL
      if (write.rests) await lockRecords(inside, table, chunk)
      removed += (await run(inside, write.plan, keySlots(...chunk))).touched
    }
    return removed === keys.length
  })
}

/**
 * Keys by the statement. The last one fills a statement up, so that a few sizes of statement serve all numbers of keys.
 */
function chunksOf(keys: readonly KeyValues[]): readonly (readonly KeyValues[])[] {
  return Array.from({ length: Math.ceil(keys.length / CHUNK) }, (_, at) => {
    const chunk = keys.slice(at * CHUNK, (at + 1) * CHUNK)
    const size = 2 ** Math.ceil(Math.log2(chunk.length))
    return [...chunk, ...Array.from({ length: size - chunk.length }, () => chunk.at(-1) as KeyValues)]
  })
}
