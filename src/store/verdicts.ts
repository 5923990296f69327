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
import { changedScope, createdScope, type DriverRow, planAnswers, planAnswersFor, scopeAt } from '../sql/index.js'
import { compilationOf, keySlots, planned, run, type Session } from './session.js'

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
  const { rulebook, dialect, caller } = session
  const { table, action, fields = [], unfit = [] } = inquiry
  const asked = `${inquiry.fields?.join() ?? 'as it is'} ${unfit.join()}`
  const plan = planned(session, `ask ${action} ${table} ${asked}`, () => {
    const changes = { given: fields, stamps: stampsToSet(rulebook, table, action, caller, values) }
    const compilation = compilationOf(session)
    const next = changedScope(compilation, changes, scopeAt(dialect, table))
    return planAnswers({ ...compilation, next }, table, questionsFor([inquiry]))
  })
  const { rows } = await run(session, plan.statement, { ...values, ...keySlots(key) })
  const [row] = rows
  const facts = row ? plan.answersOf(row) : () => false
  return {
    verdict: verdictFrom(inquiry, facts),
    record: row ? plan.recordOf(row) : null,
    changed: fields.some((field) => !facts(unchangedId(field))),
  }
}

/** The same for a record that is to be created. */
export async function inquireCreate(session: Session, inquiry: Inquiry, record: MemoryRecord): Promise<Verdict> {
  const { table, fields = [], unfit = [] } = inquiry
  const plan = planned(session, `ask create ${table} ${fields.join()} ${unfit.join()}`, () => {
    const compilation = compilationOf(session)
    return planAnswersFor(compilation, createdScope(compilation, table), questionsFor([inquiry]))
  })
  const { rows } = await run(session, plan.statement, record)
  return verdictFrom(inquiry, plan.answersOf(rows[0] as DriverRow))
}
