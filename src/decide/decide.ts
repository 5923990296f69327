import { sizeOf } from '../condition/index.js'
import { deepFreeze, InputError, tableOf } from '../model/index.js'
import {
  type Action,
  assertAction,
  checkCaller,
  decidedFor,
  kept,
  permission,
  PLAIN_SHAPE,
  possibility,
  type Rulebook,
  rulesOf,
  shapeOfCaller,
} from '../rules/index.js'
import { type Data, type Lookup, lookupIn, type MemoryRecord } from './data.js'
import { type Answers, answersFrom, evaluator, factsFrom } from './evaluate.js'
import { evaluatorAsCode } from './generate.js'
import { type Facts, type Inquiry, type Question, questionsAbout, type Subject } from './questions.js'
import { problemsOfNew, readValues, recordToCreate, stampsToSet, stampValues } from './values.js'
import type { World } from './world.js'
import { closedVerdict, type Verdict, verdictReader } from './verdict.js'

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
  return decider(rulebook, request)(request.record, request.values)
}

/** What is worked out once about a kind of question, for all callers. */
interface Prepared {
  readonly factsIn: ReturnType<typeof factsFrom>
  readonly read: ReturnType<typeof verdictReader>
}

/** The same about records as they stand. */
interface Standing extends Pick<Prepared, 'read'> {
  /** All answers in one number, or, where they do not fit, one by one. */
  readonly answers: Answers | ReturnType<typeof factsFrom>
  /** The verdicts that there were, by that number, and whether whoever asked had signed in. */
  readonly known: Map<number, Verdict>
}

/** How many of them are kept. */
const KNOWN = 64

/** How an action on a table is decided. */
interface Decision {
  /** Whether it is always about what is to be written. */
  readonly writes: boolean
  /** About a record as it stands; made when that is first asked. */
  standing?: Standing
  /** Whether it is closed to callers who have an id and nothing else, as most do. */
  closedToPlain?: boolean
}

/** By the table alone and then the action: names put together take longer to find than what they name takes to use. */
const decisionsOf = (rulebook: Rulebook, table: string) =>
  kept(rulebook, 'decisions', table, () => new Map<Action, Decision>())

function decisionOn(rulebook: Rulebook, table: string, action: Action): Decision {
  tableOf(rulebook.model, table)
  const decisions = decisionsOf(rulebook, table)
  const known = decisions.get(action)
  if (known) return known
  const rules = rulesOf(rulebook, table)
  assertAction(rules, table, action)
  const made = { writes: action === 'create' || rules.actions.includes(action) }
  decisions.set(action, made)
  return made
}

/** Values bring fields of their own, of which there are many sets. */
const preparedFor = (subject: Subject): Prepared =>
  kept(
    subject.rulebook,
    'verdict',
    JSON.stringify([subject.table, subject.action, subject.fields, subject.unfit]),
    () => prepare(subject),
    ({ parts }) => parts,
  )

function prepare(subject: Subject) {
  const questions = questionsAbout(subject)
  const parts = questions.reduce((sum, { condition }) => sum + sizeOf(condition), 0)
  return { parts, factsIn: factsFrom(questions), read: verdictReader(subject) }
}

/**
 * Prepares to decide in memory about many records for one caller, with the reasons: for a page that says of each why it
 * may not be changed. {@link predicate} says yes or no, and is faster still.
 *
 * @returns a function of the record, and of the values where some are to be written
 * @throws {CallerError} where the caller is not one the rules know
 * @throws {UnknownNameError} where there is no such table or action
 * @example
 * const verdictOn = decider(rules, { caller: ben, action: 'delete', table: 'rents', data })
 * rents.map((rent) => verdictOn(rent).message)
 */
export function decider(
  rulebook: Rulebook,
  request: Omit<DecideRequest, 'record' | 'values'>,
): (record?: MemoryRecord, values?: MemoryRecord) => Verdict {
  const { action, table, data, now = new Date() } = request
  const decision = decisionOn(rulebook, table, action)
  const caller = checkCaller(rulebook.caller, request.caller)
  if (isClosedBy(decision, { rulebook, table, action, caller })) {
    const closed = closedVerdict({ rulebook, table, action, caller })
    return () => closed
  }
  const asking: Asking = { rulebook, table, action, caller, now, lookup: lookupIn(data) }
  // Without values, a question about an update is one about the record as it stands.
  if (decision.writes) {
    return (record, values = {}) => onWrite(asking, record, values)
  }
  let standing: ((record: MemoryRecord | undefined) => Verdict) | undefined
  return (record, values) =>
    values ? onWrite(asking, record, values) : (standing ??= onRecords(decision, asking))(record)
}

/** Who asks for what, and what there is to look at. */
interface Asking extends Inquiry {
  readonly now: Date
  readonly lookup: Lookup
}

/** Verdicts on records as they stand. Those with the same answers have the same one, which nobody can change. */
function onRecords(decision: Decision, { rulebook, table, action, caller, now, lookup }: Asking) {
  const { answers, read, known } = (decision.standing ??= standing({ rulebook, table, action }))
  const world = { caller, now, lookup }
  if (typeof answers === 'function' || caller.trusted !== undefined) {
    const factsOf = typeof answers === 'function' && caller.trusted === undefined ? answers(world) : () => everything
    return (record: MemoryRecord | undefined) => read(caller, record ? factsOf(record) : nothing)
  }
  const answersOf = answers.in(world)
  const who = caller.signedIn ? 1 : 0
  return (record: MemoryRecord | undefined) => {
    const all = record ? answersOf(record) : 0
    const same = known.get(all * 2 + who)
    if (same) return same
    const verdict = deepFreeze(read(caller, record ? answers.factsOf(all) : nothing))
    if (known.size >= KNOWN) known.clear()
    known.set(all * 2 + who, verdict)
    return verdict
  }
}

function standing(subject: Subject): Standing {
  const questions = questionsAbout(subject)
  return {
    read: verdictReader(subject),
    answers: answersFrom(questions) ?? factsFrom(questions),
    known: new Map(),
  }
}

/** The verdict on values that are to be written. */
function onWrite(
  { rulebook, table, action, caller, now, lookup }: Asking,
  found: MemoryRecord | undefined,
  given: unknown,
) {
  const reading = readValues(rulebook, table, action, given)
  const { values, fields, unfit, problems } = reading
  const { factsIn, read } = preparedFor({ rulebook, table, action, unfit, fields })
  const creating = action === 'create'
  const record = creating ? recordToCreate(rulebook, table, values, caller, now) : found
  if (!record) return read(caller, nothing)
  const stamps = creating ? {} : stampValues(stampsToSet(rulebook, table, action, caller, values), caller, now)
  const next = { ...record, ...values, ...stamps }
  // To trusted code, everything is open.
  const facts = caller.trusted === undefined ? factsIn({ caller, now, lookup, next, sent: values })(record) : everything
  const wrong = creating ? problemsOfNew(rulebook, table, reading, record) : problems
  const verdict = read(caller, facts, wrong)
  if (wrong.size > 0 && verdict.status === 422) throw new InputError(table, verdict.invalid)
  return verdict
}

const nothing: Facts = () => false
const everything: Facts = () => true

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
  const allowed = permission(rulebook, table, action)
  const world = { caller, now, lookup: lookupIn(data) }
  return evaluatorAsCode(allowed, world) ?? evaluator(allowed, world)
}

/** Whether no record at all could be open to this caller for this action. */
export const isClosed = (inquiry: Inquiry): boolean =>
  isClosedBy(decisionOn(inquiry.rulebook, inquiry.table, inquiry.action), inquiry)

function isClosedBy(decision: Decision, inquiry: Inquiry): boolean {
  const { rulebook, table, action, caller } = inquiry
  const shape = shapeOfCaller(caller)
  if (shape === PLAIN_SHAPE) return (decision.closedToPlain ??= isNowhere(inquiry))
  return kept(rulebook, 'closed', JSON.stringify([table, action, shape]), () => isNowhere(inquiry))
}

const isNowhere = ({ rulebook, table, action, caller }: Inquiry): boolean =>
  caller.trusted === undefined && decidedFor(possibility(rulebook, table, action), caller) === false

/** Answers questions about a record from memory. A question nobody asked has the answer no. */
export function answer(questions: readonly Question[], record: MemoryRecord, world: World): Facts {
  return factsFrom(questions)(world)(record)
}
