import { sameData } from '../../condition/index.js'
import type { MemoryRecord } from '../../decide/index.js'
import {
  accepts,
  bigIntAsText,
  fieldOf,
  fromJson,
  isMissing,
  isNumberAsText,
  type ModelData,
  readTyped,
  sameValue,
  type Shape,
  tableOf,
  type Value,
} from '../../model/index.js'
import { type Action, changesRecord, type TableRules } from '../../rules/index.js'

/**
 * Values as YAML or JSON hold them, in the types of the model as far as they fit. What does not fit stays as it is:
 * what comes of sending it may be just what is asked.
 */
export function valuesFrom(model: ModelData, table: string, given: MemoryRecord): MemoryRecord {
  const { fields } = tableOf(model, table)
  return Object.fromEntries(
    Object.entries(given).map(([name, plain]) => {
      if (!Object.hasOwn(fields, name)) return [name, plain]
      const field = fieldOf(model, table, name)
      const read = readWritten(field, plain)
      return [name, accepts(field, read) ? read : plain]
    }),
  )
}

/** What was written in YAML or JSON for a value of this type; whether it is one still has to be checked. */
export const readWritten = (field: Shape, written: unknown): unknown => fromJson(field, withNumbers(field, written))

/** Numbers that were written for what is none in JSON, as JSON has them: where they have so few digits that all are there. */
function withNumbers(field: Shape, plain: unknown): unknown {
  const { type, item = type } = field
  if (!isNumberAsText(field)) return plain
  if (Array.isArray(plain)) return plain.map((each) => withNumbers({ ...field, type: item }, each))
  const isWhole = typeof plain === 'number' && String(plain).replaceAll(/\D/g, '').length <= 15
  return isWhole ? readTyped(field, String(plain)) : plain
}

/** Whether an action can be sent values. */
export function takesValues(rules: TableRules, action: Action): boolean {
  return action === 'create' || changesRecord(rules, action)
}

/** Whether two values of a field are the same: documents by what is in them, in whatever order. */
export function isSame(field: Shape, left: unknown, right: unknown): boolean {
  if (isMissing(left) || isMissing(right)) return isMissing(left) && isMissing(right)
  return field.type === 'json' ? sameData(left, right) : sameValue(left as Value, right as Value)
}

/** Writes a value for a reader, on one line: `'public'`, `(1, 2)`, `missing`. */
export function writeValue(value: unknown): string {
  if (isMissing(value)) return 'missing'
  if (value instanceof Date) return value.toISOString()
  if (value instanceof Uint8Array) return `bytes ${Buffer.from(value).toString('hex') || 'none'}`
  if (Array.isArray(value)) return value.length === 0 ? '()' : `(${value.map(writeValue).join(', ')})`
  if (typeof value === 'object') return JSON.stringify(value, bigIntAsText)
  return typeof value === 'string' ? `'${value.replaceAll('\n', '\\n')}'` : String(value as Value)
}
