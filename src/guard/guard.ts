import {
  type AnyActions,
  type CallerDefinition,
  type CallerOf,
  checkCaller,
  isChecked,
  type OwnAction,
  readRulebook,
  type Rules,
  shapeOfCaller,
  type StandardAction,
} from '../rules/index.js'
import {
  assertKnown,
  Cache,
  type KeyOf,
  LIMITS,
  type Model,
  type TableName,
  type ValuesOf,
  type VisibleRecord,
} from '../model/index.js'
import type { BulkResult } from './bulk.js'
import type { BulkOptions, BulkOutcome } from './in-turn.js'
import type { Decision } from './decision.js'
import type { Listed, ListOptions, ReadOptions, StreamOptions, WhereOptions } from './options.js'
import type { Decided } from './decided.js'
import type { FilterOptions } from './own-queries.js'
import type { ListPlan, SqlPiece, Store } from './backend.js'
import { type PlanKinds, weighPlan } from './plans.js'
import type { WriteOptions } from './provided.js'
import { scopedStore } from './scoped.js'
import type { Session } from './session.js'
import { assertValidators, type Validators } from './validators.js'
import type { StoredVerdict } from './verdicts.js'

/**
 * The store as one caller may use it. Every method refuses by throwing: {@link SignInError} (401),
 * {@link ForbiddenError} (403) or {@link NotFoundError} (404); what does not fit the table at all is an
 * {@link InputError} (422) or {@link UnknownNameError}, and then nothing is run. What a write cannot do because
 * another record or another request is in its way is a {@link ConflictError} (409).
 */
export interface ScopedStore<M, A = AnyActions> {
  /**
   * The records the caller may list, in one query, without the fields hidden from the caller; in the order of
   * their keys, where no other is asked for.
   *
   * @throws {InputError} where an option has a value it cannot have, such as a negative `limit`
   * @example
   * await guard.as(ana).list('entries', {
   *   where: (row) => row.audience.is('public'),
   *   orderBy: 'createdAt descending',
   *   limit: 50,
   *   with: { plot: true, remarks: { limit: 3 } },
   *   access: true,
   * })
   */
  list<T extends TableName<M>, const O extends ListOptions<M, T>>(
    table: T,
    options?: O & ListOptions<M, T>,
  ): Promise<readonly Listed<M, T, O>[]>
  /** The record with that key, without the fields hidden from the caller. */
  get<T extends TableName<M>, const O extends ReadOptions<M, T>>(
    table: T,
    key: KeyOf<M, T>,
    options?: O & ReadOptions<M, T>,
  ): Promise<Listed<M, T, O>>
  /** How many records the caller may list. */
  count<T extends TableName<M>>(table: T, options?: WhereOptions<M, T>): Promise<number>
  /** Whether there is any record that the caller may list. */
  exists<T extends TableName<M>>(table: T, options?: WhereOptions<M, T>): Promise<boolean>
  /**
   * All that `list` would return, one by one, without ever holding more than a batch: each batch is a query of
   * its own that continues after the last record, so that no connection is kept in between.
   *
   * @param options as for `list`; `batch` records at a time, 1 or more, 500 where left out
   * @example for await (const entry of guard.as(eva).stream('entries', { orderBy: 'createdAt' })) { … }
   */
  stream<T extends TableName<M>, const O extends StreamOptions<M, T>>(
    table: T,
    options?: O & StreamOptions<M, T>,
  ): AsyncGenerator<Listed<M, T, O>, void>
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
   * @throws {ChangedError} where `provided` says that the record is not as it was when it was read
   * @example
   * const { updatedAt } = await mine.get('entries', 3)
   * await mine.update('entries', 3, { title }, { provided: (now) => now.updatedAt?.getTime() === updatedAt?.getTime() })
   */
  update<T extends TableName<M>>(
    table: T,
    key: KeyOf<M, T>,
    values: ValuesOf<M, T>,
    options?: WriteOptions<VisibleRecord<M, T>>,
  ): Promise<VisibleRecord<M, T>>
  /**
   * Removes a record.
   * @throws {ChangedError} where `provided` says that the record is not as it was when it was read
   */
  delete<T extends TableName<M>>(table: T, key: KeyOf<M, T>, options?: WriteOptions<VisibleRecord<M, T>>): Promise<void>
  /**
   * Does something of the table's own to a record: the rules' stamps for that action are set, and the values
   * that its grants let the caller send.
   *
   * @returns the record as the caller sees it; only its key where the caller no longer does
   * @example await guard.as(eva).act('applications', 'approve', 3)
   */
  act<T extends TableName<M>>(
    table: T,
    action: OwnAction<A, T>,
    key: KeyOf<M, T>,
    values?: ValuesOf<M, T>,
    options?: WriteOptions<VisibleRecord<M, T>>,
  ): Promise<VisibleRecord<M, T>>
  /**
   * Changes the record whose key stands among the values, as an update, or stores it, as a create, where there
   * is none. A record that is there and hidden is not found.
   *
   * @example await guard.as(ana).upsert('entryShares', { entryId: 3, memberId: 2, level: 'edit' })
   */
  upsert<T extends TableName<M>>(table: T, values: ValuesOf<M, T>): Promise<VisibleRecord<M, T>>
  /**
   * Stores several new records, all or none; with `partly`, those that are permitted.
   * @throws {BulkRefusedError} naming each that is refused alone, by its place, with its message; all, where not all can be stored together
   */
  createMany<T extends TableName<M>, const O extends BulkOptions>(
    table: T,
    all: readonly ValuesOf<M, T>[],
    options?: O,
  ): Promise<BulkResult<VisibleRecord<M, T>, O>>
  /**
   * Changes several records to the same values, all or none; with `partly`, those that are permitted.
   * @throws {BulkRefusedError} naming each that is refused alone, by key, with its message; all, where it cannot be done to all together
   * @example await guard.as(carla).updateMany('jobs', [3, 4], { status: 'done' }, { partly: true })
   */
  updateMany<T extends TableName<M>, const O extends BulkOptions>(
    table: T,
    keys: readonly KeyOf<M, T>[],
    values: ValuesOf<M, T>,
    options?: O,
  ): Promise<BulkResult<VisibleRecord<M, T>, O>>
  /**
   * Does something of the table's own to several records, all or none; with `partly`, to those permitted.
   * @throws {BulkRefusedError} naming each that is refused alone, by key, with its message; all, where it cannot be done to all together
   * @example await guard.as(eva).actMany('applications', 'approve', [3, 4])
   */
  actMany<T extends TableName<M>, const O extends BulkOptions>(
    table: T,
    action: OwnAction<A, T>,
    keys: readonly KeyOf<M, T>[],
    values?: ValuesOf<M, T>,
    options?: O,
  ): Promise<BulkResult<VisibleRecord<M, T>, O>>
  /**
   * Removes several records, all or none; with `partly`, those that are permitted, and their keys are returned.
   * @throws {BulkRefusedError} naming each that is refused alone, by key, with its message; all, where it cannot be done to all together
   */
  deleteMany<T extends TableName<M>, const O extends BulkOptions>(
    table: T,
    keys: readonly KeyOf<M, T>[],
    options?: O,
  ): Promise<O extends { readonly partly: true } ? BulkOutcome<KeyOf<M, T>> : undefined>
  /**
   * Several calls that are all done or, where the work throws, none. Inside, use only the store handed in: with
   * a pool, others would not see its writes; a database with one connection would wait for itself.
   *
   * @example
   * await guard.as(ana).transaction(async (store) => {
   *   const entry = await store.create('entries', { plotId: 4, audience: 'private', title: 'Leeks', body: '…' })
   *   await store.create('entryShares', { entryId: entry.id, memberId: 2, level: 'view' })
   * })
   */
  transaction<R>(work: (inside: ScopedStore<M, A>) => Promise<R>): Promise<R>
  /**
   * Says how a list is going to be run: its SQL, the form in which it finds its records, and what the choice was
   * made from.
   *
   * @returns nothing where the list is empty without asking the database
   */
  plan<T extends TableName<M>>(table: T, options?: ListOptions<M, T>): Promise<ListPlan | undefined>
  /**
   * The condition on what the caller may read, for the WHERE of a query of your own.
   *
   * @example
   * const { text, values } = guard.as(ana).filter('entries', 'read', { alias: 'e' })
   * await pool.query(`SELECT count(*) FROM entries AS e WHERE ${text}`, values)
   */
  filter(table: TableName<M>, action: 'read' | 'list' | 'get', options?: FilterOptions): SqlPiece
  /**
   * A subquery, in brackets, that stands for the table as the caller sees it: hidden records are not in it, and
   * hidden fields are missing. Joins, aggregates and outer joins over it come out as if they were not there.
   *
   * @example
   * const { text, values } = guard.as(ana).view('entries')
   * await pool.query(`SELECT e."plotId", count(*) FROM ${text} AS e GROUP BY 1`, values)
   */
  view(table: TableName<M>, options?: Omit<FilterOptions, 'alias'>): SqlPiece
  /**
   * The condition on what the caller may read, as plain data in which the caller and the moment are values already: for a
   * query language that is not SQL, such as Prisma's, which `pachter/prisma` has. Roles that the caller's own record says
   * are looked up at once.
   *
   * @example const { condition } = await guard.as(ana).decided('entries', 'read')
   */
  decided(table: TableName<M>, action: 'read' | 'list' | 'get'): Promise<Decided>
  /**
   * Whether the caller has a role at this moment: by the caller's word, by a role that implies it, or by the caller's own
   * record, where the rules look roles up.
   *
   * @throws {UnknownNameError} where the rules have no such role
   * @example if (await mine.hasRole('secretary')) …
   */
  hasRole(role: string): Promise<boolean>
  /**
   * Says whether the caller may do this to a stored record, and why: for the developer, since it tells more
   * than the caller may know. Its status is what the write would be answered; where values are wrong, that is 422.
   *
   * @example const { verdict } = await guard.as(ben).verdict('entries', 'update', 7, { title: '' })
   */
  verdict<T extends TableName<M>>(
    table: T,
    action: Exclude<StandardAction, 'create'> | OwnAction<A, T>,
    key: KeyOf<M, T>,
    values?: ValuesOf<M, T>,
  ): Promise<StoredVerdict>
}

/** Rules and a store, put together. */
export interface Guard<M = Model, C = CallerDefinition, A = AnyActions> {
  readonly rules: Rules<M, C, A>
  /**
   * The store as this caller may use it.
   *
   * @throws {CallerError} where an attribute is missing or of the wrong type
   * @throws {UnknownNameError} where the caller has an attribute or a role that the rules do not know
   * @example await guard.as({ id: 7, roles: ['treasurer'] }).list('rents')
   */
  as(caller: CallerOf<C>, options?: AsOptions): ScopedStore<M, A>
}

/** How a scoped store works. */
export interface AsOptions {
  /**
   * Ends every call of the scoped store early, such as that of a request whose client is gone: the call throws the signal's
   * reason, and nothing of it is written. PostgreSQL and MariaDB cancel the statement that runs; elsewhere, none is begun
   * any more. A write that was done before it could be cancelled is done, and returns as it would have.
   *
   * @example await guard.as(ana, { signal: request.signal }).list('entries')
   */
  readonly signal?: AbortSignal
}

/** What a guard is made of. */
export interface GuardOptions<M, C, A = AnyActions> {
  /** From `defineRules` or `readRulebook`; data is checked as `readRulebook` does. */
  readonly rules: Rules<M, C, A>
  /** A connector, such as `pgliteStore(database)`. */
  readonly store: Store
  /** Validators that speak Standard Schema, for the values of a create or an update, besides the rules' checks. */
  readonly validators?: Validators<TableName<M>>
  /**
   * Told of every decision: who, what, which record, what came of it, through which tie, and how long it took.
   * Left out, nothing is told but what trusted code does, on the console. Where it is given, each call on one
   * record costs one more query, for the tie.
   */
  readonly onDecision?: (decision: Decision) => void
  /** Says the moment of a request; left out, the computer's clock. */
  readonly clock?: () => Date
}

/**
 * Puts rules and a store together, so that every read and write obeys the rules.
 *
 * @throws {RulebookError} where the rules are data, and none that can be used
 * @throws {UnknownNameError} where an option, or a table or an action among the validators, is unknown
 * @example const guard = createGuard({ rules, store: pgliteStore(database) })
 */
export function createGuard<M, C, A>(options: GuardOptions<M, C, A>): Guard<M, C, A> {
  assertKnown('option', options, ['rules', 'store', 'validators', 'onDecision', 'clock'], 'createGuard')
  const { store, validators = {}, onDecision, clock = () => new Date() } = options
  // A rulebook that is data, such as a file that was only parsed, is checked as one that is read.
  const rules = isChecked(options.rules) ? options.rules : (readRulebook(options.rules) as Rules<M, C, A>)
  assertValidators(rules.model, validators)
  const backend = store.backend(rules)
  const plans = new Cache<PlanKinds[keyof PlanKinds]>(LIMITS.planBytes, weighPlan)
  return {
    rules,
    as: (given, as = {}) => {
      assertKnown('option', as, ['signal'], 'as')
      const { signal } = as
      const caller = checkCaller(rules.caller, given)
      // Whoever hears of decisions is told who asked, and cannot make another of them.
      Object.freeze(caller.attributes)
      const session: Session = {
        rulebook: rules,
        backend,
        place: backend.place,
        caller,
        shape: shapeOfCaller(caller),
        plans,
        clock,
        validators: validators as Validators,
        ...(signal && { signal }),
        ...(onDecision && { onDecision }),
      }
      return scopedStore(session) as unknown as ScopedStore<M, A>
    },
  }
}
