import type { Given, WritePlan } from '../../guard/index.js'
import { InputError } from '../../model/index.js'
import { placeOfField } from '../names.js'
import type { Narrowness } from './columns.js'
import type { Workshop } from './planned.js'

/** A value that a write is given: its field, and where it stands among what is given. */
export interface GivenTo {
  readonly field: string
  readonly slot: string
}

/**
 * A write that is not run with texts of which their columns store something else: what is too much a database cuts off in
 * silence where it is blanks, some columns lose all blanks at the end, and then it has stored what no rule looked at.
 */
export function fitting(workshop: Workshop, table: string, given: readonly GivenTo[], plan: WritePlan): WritePlan {
  const { rulebook, columns } = workshop
  const narrow = given.flatMap(({ field, slot }) => {
    const column = columns.narrow.get(placeOfField(rulebook.model, table, field))
    return column ? [{ field, slot, column }] : []
  })
  if (narrow.length === 0) return plan
  const problemsIn = (values: Given) =>
    narrow.flatMap(({ field, slot, column }) => {
      const problem = misfit(column, values[slot])
      return problem === undefined ? [] : [[field, problem] as const]
    })
  return {
    ...plan,
    run: (at, bindings) => {
      const problems = problemsIn(bindings.given)
      if (problems.length > 0) throw new InputError(table, Object.fromEntries(problems))
      return plan.run(at, bindings)
    },
  }
}

function misfit({ most, isStripped }: Narrowness, value: unknown): string | undefined {
  if (typeof value !== 'string') return undefined
  if (isStripped && value.endsWith(' ')) return 'must not end in a blank'
  // Databases count characters, and JavaScript the halves of some.
  const isLonger = most !== undefined && value.length > most && [...value].length > most
  return isLonger ? `must have at most ${most} characters` : undefined
}
