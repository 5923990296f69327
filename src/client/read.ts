import {
  accepts,
  childrenOf,
  describeType,
  type FieldData,
  fromJson,
  isMissing,
  type ModelData,
  parentsOf,
  tableOf,
  toJson,
} from '../model/index.js'
import { misfit } from './errors.js'

type Values = Readonly<Record<string, unknown>>

/**
 * A record as it was sent, with the values that its model says: moments as `Date`, whole numbers of 64 bits as `bigint`,
 * bytes as `Uint8Array`. Related records are read alike; what is no field stays as it came.
 */
export function readRecord(model: ModelData, table: string, sent: Values): Values {
  const { fields } = tableOf(model, table)
  const related = new Map(
    [...childrenOf(model, table), ...parentsOf(model, table)].map((each) => [each.name, each.table]),
  )
  return Object.fromEntries(
    Object.entries(sent).map(([name, value]) => {
      const field = Object.hasOwn(fields, name) ? fields[name] : undefined
      if (field) return [name, fromJson(field, value)]
      const there = related.get(name)
      if (there === undefined || isMissing(value)) return [name, value]
      const read = (each: unknown) => readRecord(model, there, each as Values)
      return [name, Array.isArray(value) ? value.map(read) : read(value)]
    }),
  )
}

/** What was said of a caller, with the values that the rules have. */
export const readAttributes = (shape: Readonly<Record<string, FieldData>>, sent: Values): Values =>
  Object.fromEntries(
    Object.entries(sent).map(([name, value]) => {
      const field = Object.hasOwn(shape, name) ? shape[name] : undefined
      return [name, field ? fromJson(field, value) : value]
    }),
  )

/**
 * Values as they are sent: each as its field's JSON has it; what is no field is sent as it is, for the server to refuse.
 *
 * @throws {AnswerError} 422 where a value is none of its field's: JSON would make another of some, and nothing of others
 */
export function writeValues(model: ModelData, table: string, values: Values): Values {
  const { fields } = tableOf(model, table)
  const problems: Record<string, string> = {}
  const written = Object.entries(values).map(([name, value]) => {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (!field || isMissing(value)) return [name, value]
    if (accepts(field, value)) return [name, toJson(field, value)]
    problems[name] = `must be ${describeType(field)}`
    return [name, value]
  })
  if (Object.keys(problems).length > 0) throw misfit(table, problems)
  return Object.fromEntries(written) as Values
}
