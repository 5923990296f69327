import {
  childrenOf,
  type FieldData,
  fromPlain,
  isMissing,
  type ModelData,
  parentsOf,
  type PlainValue,
  type Shape,
  tableOf,
  toPlain,
  type Value,
} from '../model/index.js'

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
      if (field) return [name, readValue(field, value)]
      const there = related.get(name)
      if (there === undefined || isMissing(value)) return [name, value]
      const read = (each: unknown) => readRecord(model, there, each as Values)
      return [name, Array.isArray(value) ? value.map(read) : read(value)]
    }),
  )
}

const readValue = (field: FieldData, value: unknown): unknown =>
  isMissing(value) ? value : fromPlain(field, value as PlainValue)

/** Values as they are sent: each as its field's JSON has it; what is no field is sent as it is, for the server to refuse. */
export function writeValues(model: ModelData, table: string, values: Values): Values {
  const { fields } = tableOf(model, table)
  return Object.fromEntries(
    Object.entries(values).map(([name, value]) => {
      const field = Object.hasOwn(fields, name) ? fields[name] : undefined
      return [name, field && isWritable(field, value) ? toPlain(field, value as Value) : value]
    }),
  )
}

/** Whether a value is of the kind that its field writes in a way of its own. */
const isWritable = (field: Shape, value: unknown): boolean =>
  value instanceof Date ? field.type === 'timestamp' : typeof value === 'bigint' || value instanceof Uint8Array
