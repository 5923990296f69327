import {
  closedVerdict,
  type Inquiry,
  type MemoryRecord,
  type Reading,
  questionsFor,
  stampsToSet,
  unchangedId,
  type Verdict,
  verdictFrom,
} from '../decide/index.js'
import { InputError, type KeyValues, readKey } from '../model/index.js'
import { type Action, assertAction, rulesOf } from '../rules/index.js'
import { readGiven } from './given.js'
import { isShut } from './requests.js'
import { keySlots, planned, run, type Session } from './session.js'

/** A verdict on a stored record. */
export interface StoredVerdict {
  readonly verdict: Verdict
  /** The record as stored, whoever may see it: for the developer, not for the caller. `null` where there is none. */
  readonly record: MemoryRecord | null
  /** Whether the values given differ from those stored. */
  readonly changed: boolean
}

/** Asks the database everything the verdict on one stored record depends on, in one query. */
export async function inquire(
  session: Session,
  inquiry: Inquiry,
  key: KeyValues,
  values: MemoryRecord = {},
): Promise<StoredVerdict> {
  const { rulebook, caller, backend } = session
  const { table, action, fields = [], unfit = [] } = inquiry
  const plan = planned(session, 'ask', [action, table, inquiry.fields, unfit], () => {
    const stamps = stampsToSet(rulebook, table, action, caller, values)
    return backend.ask(table, questionsFor([inquiry]), { given: fields, stamps, acts: action !== 'update' })
  })
  const answers = await run(session, plan, { ...values, ...keySlots(key) })
  const facts = answers?.facts ?? (() => false)
  return {
    verdict: verdictFrom(inquiry, facts),
    record: answers?.record ?? null,
    changed: fields.some((field) => !facts(unchangedId(field))),
  }
}

/** The same for a record that is to be created. */
export async function inquireCreate(session: Session, inquiry: Inquiry, record: MemoryRecord): Promise<Verdict> {
  const { table, fields = [], unfit = [] } = inquiry
  const plan = planned(session, 'askNew', [table, fields, unfit], () =>
    session.backend.askNew(table, questionsFor([inquiry])),
  )
  return verdictFrom(inquiry, await run(session, plan, record))
}

/** Whether a verdict is that there is nothing to write for this caller, whatever the values. */
export const isRefusal = ({ status }: Verdict): boolean => status !== 200 && status !== 422

/** The verdict on a stored record: what a write of these values would be answered. */
export async function judge(
  session: Session,
  table: string,
  action: Action,
  key: unknown,
  given?: unknown,
): Promise<StoredVerdict> {
  const { rulebook, caller } = session
  assertAction(rulesOf(rulebook, table), table, action)
  const reading = given === undefined ? undefined : await readGiven(session, table, action, given)
  const inquiry: Inquiry = {
    rulebook,
    table,
    action,
    caller,
    ...(reading && { fields: reading.fields, unfit: reading.unfit }),
  }
  const found = await inquire(session, inquiry, readKey(rulebook.model, table, key), reading?.values)
  return { ...found, verdict: answered(session, inquiry, found.verdict, reading?.problems ?? new Map()) }
}

/** A verdict as it is answered: what is closed is that before any record is looked at, and wrong values are told after all else. */
function answered(session: Session, inquiry: Inquiry, verdict: Verdict, problems: Reading['problems']): Verdict {
  if (isShut(session, inquiry)) {
    const { status, message } = closedVerdict(inquiry)
    return { ...verdict, allowed: false, status, message }
  }
  if (problems.size === 0 || isRefusal(verdict)) return verdict
  const invalid = { ...verdict.invalid, ...Object.fromEntries(problems) }
  const { message } = new InputError(inquiry.table, invalid)
  return { ...verdict, allowed: false, status: 422, invalid, message }
}
