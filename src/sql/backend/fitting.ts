import type { Bindings, Given, WritePlan } from '../../guard/index.js'
import { InputError } from '../../model/index.js'
import { placeOfField } from '../names.js'
import type { Workshop } from './planned.js'

/** A value that a write is given: its field, and where it stands among what is given. */
export interface GivenTo {
  readonly field: string
  readonly slot: string
}

/**
 * A write that is not run with texts that are longer than their columns: what of these is too much a database cuts off in
 * silence where it is blanks, and then it has stored what no rule looked at.
 */
export function fitting(workshop: Workshop, table: string, given: readonly GivenTo[], plan: WritePlan): WritePlan {
  const { rulebook, columns } = workshop
  const limited = given.flatMap(({ field, slot }) => {
    const most = columns.lengths.get(placeOfField(rulebook.model, table, field))
    return most === undefined ? [] : [{ field, slot, most }]
  })
  if (limited.length === 0) return plan
  const problemsIn = (values: Given) =>
    limited.flatMap(({ field, slot, most }) =>
      isLonger(values[slot], most) ? [[field, `must have at most ${most} characters`] as const] : [],
    )
  return {
    ...plan,
    run: (at, bindings: Bindings) => {
      const problems = problemsIn(bindings.given)
      if (problems.length > 0) throw new InputError(table, Object.fromEntries(problems))
      return plan.run(at, bindings)
    },
  }
}

/** Databases count characters, and JavaScript the halves of some. */
const isLonger = (value: unknown, most: number): boolean =>
  typeof value === 'string' && value.length > most && [...value].length > most
