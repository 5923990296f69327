import type { Misfits } from '../../guard/index.js'
import { tableOf } from '../../model/index.js'
import { placeOfField } from '../names.js'
import type { Narrowness } from './columns.js'
import type { Workshop } from './planned.js'

/**
 * What finds the texts of which a table's columns would store something else: what is too much a database cuts off in silence
 * where it is blanks, some columns lose all blanks at the end, and then it has stored what no rule looked at. Worked out for
 * each table once, as columns are read once.
 */
export function misfitsIn(workshop: Workshop): (table: string) => Misfits | undefined {
  const known = new Map<string, Misfits | undefined>()
  return (table) => {
    if (workshop.columns.narrow.size === 0) return undefined
    if (!known.has(table)) known.set(table, misfitsOf(workshop, table))
    return known.get(table)
  }
}

function misfitsOf({ rulebook: { model }, columns }: Workshop, table: string): Misfits | undefined {
  const narrow = Object.keys(tableOf(model, table).fields).flatMap((field) => {
    const column = columns.narrow.get(placeOfField(model, table, field))
    return column ? [[field, column] as const] : []
  })
  if (narrow.length === 0) return undefined
  return (values) =>
    narrow.flatMap(([field, column]) => {
      const problem = misfit(column, values[field])
      return problem === undefined ? [] : [[field, problem] as const]
    })
}

function misfit(column: Narrowness, value: unknown): string | undefined {
  if (!Array.isArray(value)) return misfitText(column, value)
  const [problem] = value.flatMap((each) => misfitText(column, each) ?? [])
  return problem === undefined ? undefined : `has an item that ${problem}`
}

function misfitText({ most, isPadded }: Narrowness, value: unknown): string | undefined {
  if (typeof value !== 'string') return undefined
  if (isPadded && value.endsWith(' ')) return 'must not end in a blank'
  // Databases count characters, and JavaScript the halves of some.
  const isLonger = most !== undefined && value.length > most && [...value].length > most
  return isLonger ? `must have at most ${most} characters` : undefined
}
