import type { Access } from '../decide/index.js'
import { type KeyOf, type Model, readKey, type TableName, type ValuesOf, type VisibleRecord } from '../model/index.js'
import { type Action, type CallerDefinition, type CallerOf, checkCaller, type Rules } from '../rules/index.js'
import { count, get, list, type ListOptions } from './reads.js'
import type { Session } from './session.js'
import type { Store } from './store.js'
import { inquire, type StoredVerdict } from './verdicts.js'
import { create, remove, update } from './writes.js'

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

/**
 * Puts rules and a store together, so that every read and write obeys the rules.
 *
 * @param options.rules from `defineRules`
 * @param options.store a connector, such as `pgliteStore(database)`
 * @param options.clock says the moment of a request; left out, the computer's clock
 * @example const guard = createGuard({ rules, store: pgliteStore(database) })
 */
export function createGuard<M, C>(options: {
  readonly rules: Rules<M, C>
  readonly store: Store
  readonly clock?: () => Date
}): Guard<M, C> {
  const { rules, store, clock = () => new Date() } = options
  return {
    rules,
    as: (given) => {
      const caller = checkCaller(rules.caller, given)
      return scopedStore({ rulebook: rules, store, caller, clock }) as unknown as ScopedStore<M>
    },
  }
}

function scopedStore(session: Session) {
  const { rulebook, caller } = session
  return {
    list: (table: string, options: ListOptions = {}) => list(session, table, options),
    get: (table: string, key: unknown) => get(session, table, key),
    count: (table: string) => count(session, table),
    create: (table: string, values: unknown) => create(session, table, values),
    update: (table: string, key: unknown, values: unknown) => update(session, table, key, values),
    delete: (table: string, key: unknown) => remove(session, table, key),
    verdict: async (action: Action, table: string, key: unknown, values: object = {}) => {
      const fields = Object.keys(values)
      const inquiry = { rulebook, table, action, caller, fields }
      return inquire(session, inquiry, readKey(rulebook.model, table, key), values as never)
    },
  }
}
