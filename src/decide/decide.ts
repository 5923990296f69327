import { tableOf } from '../model/index.js'
import {
  type Action,
  assertAction,
  checkCaller,
  permission,
  possibility,
  type Rulebook,
  rulesOf,
  specialise,
} from '../rules/index.js'
import { type Data, lookupIn, type MemoryRecord } from './data.js'
import { evaluator, type World } from './evaluate.js'
import { type Facts, type Inquiry, type Question, questionsFor } from './questions.js'
import { assertFit, readValues, recordToCreate, stampsToSet, stampValues, unstamped } from './values.js'
import { closedVerdict, type Verdict, verdictFrom } from './verdict.js'

/** What is to be decided in memory. */
export interface DecideRequest {
  /** Who asks, as the rules' caller shape has it, or `anonymous`. */
  readonly caller: unknown
  readonly action: Action
  readonly table: string
  /** The record asked about; none for `create`, and none where there is no such record. */
  readonly record?: MemoryRecord
  /** The values of a `create`, an `update` or an own action. */
  readonly values?: MemoryRecord
  /** All records the rules may have to look at. */
  readonly data: Data
  /** The moment of the request; left out, now. */
  readonly now?: Date
}

/**
 * Decides in memory whether a caller may do something, and says why.
 *
 * @throws {CallerError} where the caller is not one the rules know
 * @throws {UnknownNameError} where there is no such table
 * @throws {InputError} where values do not fit the table
 * @example
 * decide(rules, { caller: ben, action: 'update', table: 'entries', record: entry, data }).message
 */
export function decide(rulebook: Rulebook, request: DecideRequest): Verdict {
  const { action, table, data, now = new Date() } = request
  tableOf(rulebook.model, table)
  assertAction(rulesOf(rulebook, table), table, action)
  const caller = checkCaller(rulebook.caller, request.caller)
  if (isClosed({ rulebook, table, action, caller })) return closedVerdict({ rulebook, table, action, caller })
  // Without values, a question about an update is one about the record as it stands.
  const creating = action === 'create'
  const writes = creating || rulesOf(rulebook, table).actions.includes(action) || request.values !== undefined
  const reading = writes ? readValues(rulebook, table, action, request.values ?? {}) : undefined
  const { values = {}, fields, unfit = [] } = reading ?? {}
  const record = creating ? recordToCreate(rulebook, table, values, caller, now) : request.record
  const inquiry: Inquiry = { rulebook, table, action, caller, unfit, ...(fields && { fields }) }
  if (!record) return verdictFrom(inquiry, () => false)
  const stamps = creating ? {} : stampValues(stampsToSet(rulebook, table, action, caller, values), caller, now)
  const world: World = { caller, now, lookup: lookupIn(data), next: { ...record, ...values, ...stamps }, sent: values }
  const verdict = verdictFrom(inquiry, answer(questionsFor([inquiry]), record, world))
  const isPermitted = verdict.status === 200 || verdict.status === 422
  if (isPermitted && reading) assertFit(table, reading.problems, verdict.invalid)
  if (isPermitted && creating) assertFit(table, unstamped(rulebook, table, record))
  return verdict
}

/**
 * Compiles to a function of one record whether a caller may do something, as often as records are to be asked
 * about: for lists in memory, such as those of a page. It says yes or no; {@link decide} says why.
 *
 * @throws {CallerError} where the caller is not one the rules know
 * @throws {UnknownNameError} where there is no such table or action
 * @example entries.filter(predicate(rules, { caller: ben, action: 'update', table: 'entries', data }))
 */
export function predicate(
  rulebook: Rulebook,
  request: Omit<DecideRequest, 'record' | 'values'>,
): (record: MemoryRecord) => boolean {
  const { action, table, data, now = new Date() } = request
  tableOf(rulebook.model, table)
  assertAction(rulesOf(rulebook, table), table, action)
  const caller = checkCaller(rulebook.caller, request.caller)
  if (caller.trusted !== undefined) return () => true
  return evaluator(permission(rulebook, table, action), { caller, now, lookup: lookupIn(data) })
}

/** Whether no record at all could be open to this caller for this action. */
export function isClosed({ rulebook, table, action, caller }: Inquiry): boolean {
  return specialise(possibility(rulebook, table, action), caller).kind === 'never'
}

/** Answers questions about a record from memory. A question nobody asked has the answer no. */
export function answer(questions: readonly Question[], record: MemoryRecord, world: World): Facts {
  const known = new Map(questions.map(({ id, condition }) => [id, evaluator(condition, world)(record)]))
  return (id) => known.get(id) ?? false
}
