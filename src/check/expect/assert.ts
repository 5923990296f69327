import { type Access, RefusedError } from '../../decide/index.js'
import { assertKnown, PachterError, UnknownNameError } from '../../model/index.js'
import type { UntypedStore } from '../../guard/index.js'
import { listKeys } from './index.js'
import { write } from '../try/write.js'

/** What was stated of a caller is not so. Test runners show `actual` and `expected` side by side. */
export class ExpectationFailedError extends PachterError {
  readonly code = 'expectation-failed'
  readonly showDiff: boolean

  constructor(
    message: string,
    readonly actual?: unknown,
    readonly expected?: unknown,
  ) {
    super(message)
    this.showDiff = expected !== undefined
  }
}

/** A key: its value, or of several fields an object. */
export type KeyGiven = unknown

/** What `guard.as(caller)` returns, of whatever model. */
export interface AnyStore {
  list(table: never, options?: never): Promise<readonly object[]>
  get(table: never, key: never, options?: never): Promise<object>
  transaction(work: never): Promise<unknown>
}

const untyped = (store: AnyStore): UntypedStore => store as unknown as UntypedStore

/** A refusal as it is expected; what is left out may be anything, but that values do not fit (422) has to be stated. */
export interface RefusalExpected {
  /** The values of a create, an update or an own action. */
  readonly values?: Readonly<Record<string, unknown>>
  readonly status?: 401 | 403 | 404 | 409 | 422
  /** What the message has to contain. */
  readonly message?: string
}

const isOfSeveral = (key: KeyGiven): key is object => typeof key === 'object' && key !== null && !(key instanceof Date)

/** A key in one line; the fields of one of several by their names, in whatever order they were given. */
const printGiven = (key: KeyGiven): string => {
  if (key instanceof Date) return key.toISOString()
  if (!isOfSeveral(key)) return String(key)
  const inOrder = Object.entries(key).sort(([left], [right]) => (left < right ? -1 : 1))
  return inOrder.map(([, value]) => printGiven(value)).join(', ')
}

async function keysSeen(store: AnyStore, table: string): Promise<readonly string[]> {
  try {
    // Without further fields, a record is its key.
    return (await untyped(store).list(table, { fields: [] })).map((record) => printGiven(record))
  } catch (error) {
    if (error instanceof RefusedError) return []
    throw error
  }
}

/**
 * A key as the store prints it, however it was written.
 * @throws {InputError} where it is no key of the table: of none, that it is not seen says nothing
 */
async function asStored(store: AnyStore, table: string, key: KeyGiven): Promise<string> {
  try {
    return printGiven(await untyped(store).get(table, key, { fields: [] }))
  } catch (error) {
    if (error instanceof RefusedError) return printGiven(key)
    throw error
  }
}

/**
 * Asserts that a caller sees these records of a table, and no others. A table that is refused counts as none seen.
 *
 * @param store what `guard.as(caller)` returns
 * @throws {ExpectationFailedError} naming what is seen and should not be, and the other way round
 * @example await assertSees(guard.as(ana), 'entryShares', [{ entryId: 1, memberId: 2 }])
 */
export async function assertSees(store: AnyStore, table: string, keys: readonly KeyGiven[]): Promise<void> {
  const [actual, expected] = [await keysSeen(store, table), keys.map(printGiven)]
  const unexpected = actual.filter((key) => !expected.includes(key))
  const missing = expected.filter((key) => !actual.includes(key))
  if (unexpected.length + missing.length === 0) return
  const parts = [
    ...(unexpected.length > 0 ? [`${listKeys(unexpected)} should not be seen`] : []),
    ...(missing.length > 0 ? [`${listKeys(missing)} should be seen`] : []),
  ]
  throw new ExpectationFailedError(`Of ${table}, ${parts.join(', and ')}.`, actual, expected)
}

/**
 * Asserts that a caller sees none of these records, or none at all.
 * @throws {ExpectationFailedError} naming those that are seen
 * @throws {InputError} where what is given is no key of the table
 * @example await assertSeesNone(guard.as(ben), 'entries', [45])
 */
export async function assertSeesNone(store: AnyStore, table: string, keys?: readonly KeyGiven[]): Promise<void> {
  const actual = await keysSeen(store, table)
  const asked = keys && (await Promise.all(keys.map((key) => asStored(store, table, key))))
  const seen = asked ? asked.filter((key) => actual.includes(key)) : actual
  if (seen.length > 0) throw new ExpectationFailedError(`Of ${table}, ${listKeys(seen)} should not be seen.`)
}

/**
 * Asserts that a caller may do something to a record. A write is done, and taken back.
 *
 * @param action `read`, `create`, `update`, `delete`, or one of the table's own
 * @param key none of a `create`
 * @throws {ExpectationFailedError} with what the caller is told instead
 * @example await assertAllowed(guard.as(ana), 'update', 'entries', 1, { title: 'Leeks' })
 */
export async function assertAllowed(
  store: AnyStore,
  action: string,
  table: string,
  key?: KeyGiven,
  values: Readonly<Record<string, unknown>> = {},
): Promise<void> {
  const refusal = await attempt(store, action, table, key, values)
  if (!refusal) return
  throw new ExpectationFailedError(
    `${subject(action, table, key)} should be allowed, and is refused (${refusal.status}): ${refusal.message}`,
  )
}

/**
 * Asserts that a caller is refused. What is written all the same is taken back.
 *
 * @throws {ExpectationFailedError} where it is allowed, or refused otherwise
 * @example await assertRefused(guard.as(ben), 'update', 'entries', 2, { values: { title: 'Mine' }, status: 403 })
 */
export async function assertRefused(
  store: AnyStore,
  action: string,
  table: string,
  key?: KeyGiven,
  expected: RefusalExpected = {},
): Promise<void> {
  assertKnown('expectation', expected, ['values', 'status', 'message'], 'a refusal')
  const { values = {}, status, message } = expected
  const refusal = await attempt(store, action, table, key, values)
  const what = subject(action, table, key)
  if (!refusal) throw new ExpectationFailedError(`${what} should be refused, and is allowed.`)
  if (status === undefined && refusal.status === 422) {
    // It may be a slip in the test: a key or a value of the wrong type.
    throw new ExpectationFailedError(
      `${what} is refused for what was given, which counts with status 422 only: ${refusal.message}`,
    )
  }
  if (status !== undefined && refusal.status !== status) {
    const text = `${what} should be refused with ${status}, and is with ${refusal.status}: ${refusal.message}`
    throw new ExpectationFailedError(text, refusal.status, status)
  }
  if (message !== undefined && !refusal.message.includes(message)) {
    throw new ExpectationFailedError(`${what} should be refused with another message.`, refusal.message, message)
  }
}

/**
 * Asserts that a caller sees a record without these fields, and with all others.
 * @throws {ExpectationFailedError} naming what is hidden
 * @example await assertHidden(guard.as(ben), 'members', 3, ['email', 'phone', 'duties'])
 */
export async function assertHidden(
  store: AnyStore,
  table: string,
  key: KeyGiven,
  fields: readonly string[],
): Promise<void> {
  const record = (await untyped(store).get(table, key, { access: true })) as unknown as { readonly $access: Access }
  const [actual, expected] = [[...record.$access.hidden].sort(), [...fields].sort()]
  if (actual.join() === expected.join()) return
  const list = (names: readonly string[]) => (names.length === 0 ? 'nothing' : names.join(', '))
  const text = `Of ${table} ${printGiven(key)}, ${list(expected)} should be hidden, and ${list(actual)} is.`
  throw new ExpectationFailedError(text, actual, expected)
}

const subject = (action: string, table: string, key: KeyGiven): string =>
  [action, table, ...(key === undefined ? [] : [printGiven(key)])].join(' ')

interface Refusal {
  readonly status: number
  readonly message: string
}

/** Thrown through a transaction so that what was done in it is taken back. */
const DONE = new Error('Done, and taken back.')

async function attempt(
  store: AnyStore,
  action: string,
  table: string,
  key: KeyGiven,
  values: Readonly<Record<string, unknown>>,
): Promise<Refusal | undefined> {
  try {
    if (['read', 'get'].includes(action)) await untyped(store).get(table, key)
    else {
      await untyped(store).transaction(async (given) => {
        await write(given as UntypedStore, action, table, key, values)
        throw DONE
      })
    }
    return undefined
  } catch (error) {
    if (error === DONE) return undefined
    const { status, message } = error as { readonly status?: number; readonly message: string }
    // A mistake in the test itself, such as an unknown table, is no refusal.
    const isMistake = !(error instanceof PachterError) || error instanceof UnknownNameError
    if (isMistake || status === undefined) throw error
    return { status, message }
  }
}
