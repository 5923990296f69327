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
import { type KeyValues, readKey } from '../model/index.js'
import { type Action, assertAction, rulesOf } from '../rules/index.js'
import { readGiven } from './given.js'
import { isShut } from './requests.js'
import { keySlots, planned, run, type Session } from './session.js'

/** A verdict on a stored record. */
export interface StoredVerdict {
  readonly verdict: Verdict
  /** The record as stored, whoever may see it: for the developer, not for the caller. `null` where there is none. */
  readonly record: MemoryRecord | null
  /** Whether the values given differ from those stored, as far as the caller sees these: what is hidden counts as changed. */
  readonly changed: boolean
}

/** A verdict, and what it was passed on. */
interface Found extends Omit<StoredVerdict, 'record'> {
  /** Reads the record, whoever may see it; `null` where there is none. */
  record(): MemoryRecord | null
}

/** What is to be written, and what is wrong with it. */
type Given = Pick<Reading, 'values' | 'problems'>

const NOTHING_GIVEN: Given = { values: {}, problems: new Map() }

/** Asks the database everything the verdict on one stored record depends on, in one query. */
export async function inquire(
  session: Session,
  inquiry: Inquiry,
  key: KeyValues,
  { values, problems }: Given = NOTHING_GIVEN,
): Promise<Found> {
  const { rulebook, caller, backend } = session
  const { table, action, fields = [], unfit = [] } = inquiry
  const plan = planned(session, 'ask', [action, table, inquiry.fields, unfit], () => {
    const stamps = stampsToSet(rulebook, table, action, caller, values)
    return backend.ask(table, questionsFor([inquiry]), { given: fields, stamps, acts: action !== 'update' })
  })
  const answers = await run(session, plan, { ...values, ...keySlots(key) })
  const facts = answers?.facts ?? (() => false)
  return {
    verdict: verdictFrom(inquiry, facts, problems),
    record: () => answers?.record() ?? null,
    changed: fields.some((field) => !facts(unchangedId(field))),
  }
}

/** The same for a record that is to be created. */
export async function inquireCreate(
  session: Session,
  inquiry: Inquiry,
  { values: record, problems }: Given,
): Promise<Verdict> {
  const { table, fields = [], unfit = [] } = inquiry
  const plan = planned(session, 'askNew', [table, fields, unfit], () =>
    session.backend.askNew(table, questionsFor([inquiry])),
  )
  return verdictFrom(inquiry, await run(session, plan, record), problems)
}

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
  const found = await inquire(session, inquiry, readKey(rulebook.model, table, key), reading)
  return { ...found, record: found.record(), verdict: answered(session, inquiry, found.verdict) }
}

/** A verdict as it is answered: what is closed is that before any record is looked at. */
function answered(session: Session, inquiry: Inquiry, verdict: Verdict): Verdict {
  if (!isShut(session, inquiry)) return verdict
  const { status, message } = closedVerdict(inquiry)
  return { ...verdict, allowed: false, status, message }
}
