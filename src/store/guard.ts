import type { Access } from '../decide/index.js'
import {
  type KeyOf,
  type Model,
  readKey,
  type TableName,
  tableOf,
  UnknownNameError,
  type ValuesOf,
  type VisibleRecord,
} from '../model/index.js'
import {
  type Action,
  assertAction,
  type CallerDefinition,
  type CallerOf,
  checkCaller,
  type Rulebook,
  type Rules,
  rulesOf,
} from '../rules/index.js'
import { forEachKey } from './bulk.js'
import { count, get, list, type ListOptions } from './reads.js'
import type { Session, Validators } from './session.js'
import type { Store } from './store.js'
import { inquire, type StoredVerdict } from './verdicts.js'
import { change, create, remove } from './writes.js'

/**
 * The store as one caller may use it. Every method refuses by throwing: {@link SignInError} (401),
 * {@link ForbiddenError} (403) or {@link NotFoundError} (404); what does not fit the table at all is an
 * {@link InputError} (422) or {@link UnknownNameError}, and then nothing is run.
 */
export interface ScopedStore<M> {
  /**
   * The records the caller may list, in the order of their keys, without the fields hidden from the caller.
   *
   * @example await guard.as(ana).list('entries', { access: true, limit: 50 })
   */
  list<T extends TableName<M>>(
    table: T,
    options: ListOptions & { readonly access: true },
  ): Promise<readonly (VisibleRecord<M, T> & { readonly $access: Access })[]>
  list<T extends TableName<M>>(table: T, options?: ListOptions): Promise<readonly VisibleRecord<M, T>[]>
  /** The record with that key, without the fields hidden from the caller. */
  get<T extends TableName<M>>(table: T, key: KeyOf<M, T>): Promise<VisibleRecord<M, T>>
  /** How many records the caller may list. */
  count(table: TableName<M>): Promise<number>
  /**
   * Stores a new record with these values and the rules' stamps.
   *
   * @returns the record as the caller sees it; only its key where the caller does not
   * @example await guard.as(ana).create('entries', { plotId: 4, audience: 'private', title: 'Leeks', body: '…' })
   */
  create<T extends TableName<M>>(table: T, values: ValuesOf<M, T>): Promise<VisibleRecord<M, T>>
  /**
   * Changes a record. A visible value sent back as it is counts as no change; any other field outside the
   * grants is refused by name.
   *
   * @returns the record as the caller sees it; only its key where the caller no longer does
   */
  update<T extends TableName<M>>(table: T, key: KeyOf<M, T>, values: ValuesOf<M, T>): Promise<VisibleRecord<M, T>>
  /** Removes a record. */
  delete<T extends TableName<M>>(table: T, key: KeyOf<M, T>): Promise<void>
  /**
   * Does something of the table's own to a record: the rules' stamps for that action are set, and the values
   * that its grants let the caller send.
   *
   * @returns the record as the caller sees it; only its key where the caller no longer does
   * @example await guard.as(eva).act('approve', 'applications', 3)
   */
  act<T extends TableName<M>>(
    action: string,
    table: T,
    key: KeyOf<M, T>,
    values?: ValuesOf<M, T>,
  ): Promise<VisibleRecord<M, T>>
  /**
   * Changes several records to the same values, all or none.
   * @throws {BulkRefusedError} naming every record that was refused, by key, with its message
   */
  updateMany<T extends TableName<M>>(
    table: T,
    keys: readonly KeyOf<M, T>[],
    values: ValuesOf<M, T>,
  ): Promise<readonly VisibleRecord<M, T>[]>
  /**
   * Removes several records, all or none.
   * @throws {BulkRefusedError} naming every record that was refused, by key, with its message
   */
  deleteMany<T extends TableName<M>>(table: T, keys: readonly KeyOf<M, T>[]): Promise<void>
  /**
   * Says whether the caller may do this to a stored record, and why: for the developer, since it tells more
   * than the caller may know.
   */
  verdict<T extends TableName<M>>(
    action: Exclude<Action, 'create'>,
    table: T,
    key: KeyOf<M, T>,
    values?: ValuesOf<M, T>,
  ): Promise<StoredVerdict>
}

/** Rules and a store, put together. */
export interface Guard<M = Model, C = CallerDefinition> {
  readonly rules: Rules<M, C>
  /**
   * The store as this caller may use it.
   *
   * @throws {CallerError} where an attribute is missing or of the wrong type
   * @throws {UnknownNameError} where the caller has an attribute or a role that the rules do not know
   * @example await guard.as({ id: 7, roles: ['treasurer'] }).list('rents')
   */
  as(caller: CallerOf<C>): ScopedStore<M>
}

/** A use of the store that the rules did not bind. */
export interface TrustedUse {
  readonly reason: string
  /** The method called, such as `updateMany`. */
  readonly method: string
  readonly table: string
}

/** What a guard is made of. */
export interface GuardOptions<M, C> {
  /** From `defineRules` or `readRulebook`. */
  readonly rules: Rules<M, C>
  /** A connector, such as `pgliteStore(database)`. */
  readonly store: Store
  /** Validators that speak Standard Schema, for the values of a create or an update, besides the rules' checks. */
  readonly validators?: Validators<TableName<M>>
  /** Told of every call by trusted code, before it runs; left out, a warning on the console. */
  readonly onTrusted?: (use: TrustedUse) => void
  /** Says the moment of a request; left out, the computer's clock. */
  readonly clock?: () => Date
}

/**
 * Puts rules and a store together, so that every read and write obeys the rules.
 *
 * @example const guard = createGuard({ rules, store: pgliteStore(database) })
 */
export function createGuard<M, C>(options: GuardOptions<M, C>): Guard<M, C> {
  const { rules, store, validators = {}, onTrusted = warn, clock = () => new Date() } = options
  return {
    rules,
    as: (given) => {
      const caller = checkCaller(rules.caller, given)
      const session: Session = {
        rulebook: rules,
        dialect: store.dialect,
        connection: store,
        caller,
        clock,
        validators: validators as Validators,
      }
      const scoped = scopedStore(session, store)
      const { trusted: reason } = caller
      return (reason === undefined ? scoped : announced(scoped, reason, onTrusted)) as unknown as ScopedStore<M>
    },
  }
}

function scopedStore(session: Session, store: Store) {
  const { rulebook, caller } = session
  return {
    list: (table: string, options: ListOptions = {}) => list(session, table, options),
    get: (table: string, key: unknown) => get(session, table, key),
    count: (table: string) => count(session, table),
    create: (table: string, values: unknown) => create(session, table, values),
    update: (table: string, key: unknown, values: unknown) => change(session, table, 'update', key, values),
    delete: (table: string, key: unknown) => remove(session, table, key),
    act: async (action: Action, table: string, key: unknown, values: unknown = {}) => {
      assertOwnAction(rulebook, table, action)
      return change(session, table, action, key, values)
    },
    updateMany: (table: string, keys: readonly unknown[], values: unknown) =>
      forEachKey(session, store, table, keys, (inside, key) => change(inside, table, 'update', key, values)),
    deleteMany: async (table: string, keys: readonly unknown[]) => {
      await forEachKey(session, store, table, keys, (inside, key) => remove(inside, table, key))
    },
    verdict: async (action: Action, table: string, key: unknown, values?: object) => {
      assertAction(rulesOf(rulebook, table), table, action)
      const fields = values && { fields: Object.keys(values) }
      const inquiry = { rulebook, table, action, caller, ...fields }
      return inquire(session, inquiry, readKey(rulebook.model, table, key), values as never)
    },
  }
}

function assertOwnAction(rulebook: Rulebook, table: string, action: Action): void {
  tableOf(rulebook.model, table)
  const { actions } = rulesOf(rulebook, table)
  if (!actions.includes(action)) throw new UnknownNameError('action of its own', action, actions, table)
}

/** The same methods, each announced before it runs. */
function announced<S extends object>(scoped: S, reason: string, onTrusted: (use: TrustedUse) => void): S {
  const methods = Object.entries(scoped).map(([method, call]) => [
    method,
    (...given: unknown[]) => {
      const table = String(method === 'act' || method === 'verdict' ? given[1] : given[0])
      onTrusted({ reason, method, table })
      return (call as (...given: unknown[]) => unknown)(...given)
    },
  ])
  return Object.fromEntries(methods) as S
}

function warn({ reason, method, table }: TrustedUse): void {
  console.warn(`pachter: ${method} of ${table} without rules: ${reason}`)
}
