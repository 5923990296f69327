import { type Reading, readValues, stampsToSet, stampValues } from '../decide/index.js'
import type { Action } from '../rules/index.js'
import { withAnswer } from './answer.js'
import type { Session } from './session.js'
import { problemsFound } from './validators.js'

/** Reads values that were sent; validators look at them, and what stores them does, at what is set with them as well. */
export function readGiven(session: Session, table: string, action: Action, given: unknown): Reading | Promise<Reading> {
  const { rulebook, validators } = session
  return withAnswer(problemsFound(validators, table, action, given), (found) =>
    withMisfits(session, table, action, readValues(rulebook, table, action, given, found)),
  )
}

function withMisfits(session: Session, table: string, action: Action, reading: Reading): Reading {
  const { rulebook, backend, caller, clock } = session
  const misfits = backend.misfits(table)
  if (!misfits) return reading
  const stamps = stampValues(stampsToSet(rulebook, table, action, caller, reading.values), caller, clock())
  const problems = new Map(reading.problems)
  for (const [name, problem] of misfits({ ...reading.values, ...stamps })) {
    // What the caller cannot set, the caller is told little of.
    const told = Object.hasOwn(stamps, name) ? 'is set to what cannot be stored as it is' : problem
    if (!problems.has(name)) problems.set(name, told)
  }
  return { ...reading, problems }
}
