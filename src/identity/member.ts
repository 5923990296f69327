import { LRUCache } from 'lru-cache'
import { all, type Condition, made, not } from '../condition/index.js'
import { ConflictError, type Guard, type UntypedStore } from '../guard/index.js'
import {
  accepts,
  fieldOf,
  type FieldName,
  isMissing,
  readTyped,
  type TableName,
  tableOf,
  type Value,
  type ValuesOf,
  type VisibleRecord,
} from '../model/index.js'
import { type CallerDefinition, type CallerOf, rulesOf, trusted } from '../rules/index.js'
import { IdentityConfigError } from './errors.js'
import { assertAmount } from './settings.js'
import type { Asking, Claims, ToCaller } from './source.js'

/** How many records are kept at most. */
const KEPT = 10_000

/** How the record of whoever asks is found. */
export interface MemberOptions<M, C, T extends TableName<M>> {
  /** The table that has a record for each member. */
  readonly table: T
  /** The field that the record is found by: a key, or one that is `unique()`. */
  readonly field: FieldName<M, T>
  /** The claim that says which; for `email`, the provider has to say that it was verified. */
  readonly claim: string
  /** The caller, by the record and what was proven; nothing where the record is of nobody who may come in. */
  caller(record: VisibleRecord<M, T>, claims: Claims, asking: Pick<Asking, 'note'>): CallerOf<C> | undefined
  /** For how many seconds a record that was found counts, 0 to 300; left out, 0: it is looked up with each request. */
  readonly keepSeconds?: number
  /** The values of a new record for whoever has none; left out, whoever has none is refused. */
  firstSignIn?(claims: Claims): ValuesOf<M, T>
}

/**
 * Finds the record of whoever asks by what was proven, in one query, and makes it on the first sign-in where that is wanted:
 * once, also when several first requests come at a time. A record that is there is never changed.
 *
 * It is looked up by trusted code, which `onDecision` of the guard hears of.
 *
 * @throws {IdentityConfigError} at once, where two records could be found by the field
 * @example
 * const member = memberRecord(guard, {
 *   table: 'members',
 *   field: 'email',
 *   claim: 'email',
 *   caller: ({ id }) => ({ id }),
 *   firstSignIn: ({ name }) => ({ name, duties: [], joinedAt: new Date() }),
 * })
 */
export function memberRecord<M, C extends CallerDefinition, A, T extends TableName<M>>(
  guard: Guard<M, C, A>,
  options: MemberOptions<M, C, T>,
): ToCaller<C> {
  const { table, field, claim, keepSeconds = 0 } = options
  const { model } = guard.rules
  const shape = fieldOf(model, table, field)
  const { key } = tableOf(model, table)
  const { gone } = rulesOf(guard.rules, table)
  if (shape.unique !== true && !(key.length === 1 && key[0] === field)) {
    throw new IdentityConfigError(
      `${table}.${field} is neither the key nor unique(), so that one sign-in could be two members; say unique() in the model.`,
    )
  }
  assertAmount('keepSeconds', keepSeconds, 0, 300)
  const kept = keepSeconds > 0 ? new LRUCache<string, object>({ max: KEPT, ttl: keepSeconds * 1000 }) : undefined
  // The table is known by its name alone here; what the application is handed is typed.
  const store = () => guard.as(trusted(`who signs in, by ${table}.${field}`)) as unknown as UntypedStore

  return async (claims, asking) => {
    const value = claimed(claims)
    if (value === undefined) return undefined
    const name = String(value)
    const record = kept?.get(name) ?? (await lookedUp(name, value, claims, asking))
    return record && options.caller(record as VisibleRecord<M, T>, claims, asking)
  }

  /** What is kept counts from when it was looked up, however often it is asked for. */
  async function lookedUp(name: string, value: Value, claims: Claims, asking: Pick<Asking, 'note'>) {
    const record = (await find(value)) ?? (await created(value, claims, asking))
    if (record) kept?.set(name, record)
    return record
  }

  /** The value to look for; nothing where it is not proven. */
  function claimed(claims: Claims): Value | undefined {
    const given: unknown = Object.hasOwn(claims, claim) ? claims[claim] : undefined
    if (isMissing(given) || typeof given === 'object') return undefined
    if (claim === 'email' && claims['email_verified'] !== true) return undefined
    const written = String(given as string | number)
    const value = readTyped(shape, written)
    // Whoever is `01` to the provider is not who is `1`.
    const isExact = shape.type === 'uuid' || String(value) === written
    return isExact && accepts(shape, value) ? value : undefined
  }

  async function find(value: Value): Promise<object | undefined> {
    const where = (row: Readonly<Record<string, { is(other: unknown): Condition }>>) => {
      const meant = (row[field] as (typeof row)[string]).is(value)
      // Trusted code finds members who are gone, and they are not to come back by signing in.
      return gone ? all(meant, not(made(gone.when))) : meant
    }
    const [record] = await store().list(table, { where, limit: 1 })
    return record
  }

  async function created(value: Value, claims: Claims, { note }: Pick<Asking, 'note'>): Promise<object | undefined> {
    if (!options.firstSignIn) return undefined
    try {
      const record = await store().create(table, { ...options.firstSignIn(claims), [field]: value })
      note({ kind: 'record-created', table, key: Object.fromEntries(key.map((name) => [name, record[name]])) })
      return record
    } catch (error) {
      if (!(error instanceof ConflictError)) throw error
      // Another first request was faster.
      return find(value)
    }
  }
}
