import {
  type Inquiry,
  type MemoryRecord,
  questionsFor,
  stampsToSet,
  unchangedId,
  type Verdict,
  verdictFrom,
} from '../decide/index.js'
import type { KeyValues } from '../model/index.js'
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
