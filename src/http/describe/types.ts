import type { FieldData, FieldType, Shape } from '../../model/index.js'
import type { FieldCheck } from '../../rules/index.js'

/** A JSON Schema, as far as it is used here. */
export type Schema = Readonly<Record<string, unknown>>

/** How each type is written in JSON. */
const WRITTEN: Readonly<Record<FieldType, (shape: Shape) => Schema>> = {
  text: () => ({ type: 'string' }),
  integer: () => ({ type: 'integer' }),
  bigInteger: () => ({ type: 'string', pattern: '^-?\\d+$', description: 'A whole number of 64 bits.' }),
  decimal: ({ scale }) => ({ type: 'string', pattern: `^-?\\d+\\.\\d{${scale}}$` }),
  boolean: () => ({ type: 'boolean' }),
  float: () => ({ type: 'number' }),
  timestamp: () => ({ type: 'string', format: 'date-time' }),
  date: () => ({ type: 'string', format: 'date' }),
  time: () => ({ type: 'string', pattern: '^\\d\\d:\\d\\d:\\d\\d$' }),
  uuid: () => ({ type: 'string', format: 'uuid' }),
  choice: ({ choices = [] }) => ({ type: 'string', enum: choices }),
  list: ({ item = 'text' }) => ({ type: 'array', items: WRITTEN[item]({ type: item }) }),
  bytes: () => ({ type: 'string', pattern: '^([0-9a-f]{2})*$', description: 'Bytes as hexadecimal digits.' }),
  json: () => ({ description: 'Any JSON.' }),
}

/** The schema of a field's values. */
export function schemaOf(field: FieldData, check: FieldCheck = {}): Schema {
  const schema = { ...WRITTEN[field.type](field), ...checked(field, check) }
  if (!field.optional || schema['type'] === undefined) return schema
  const choices = schema['enum'] as readonly string[] | undefined
  return { ...schema, type: [schema['type'], 'null'], ...(choices && { enum: [...choices, null] }) }
}

/** What the rules check of the values that are sent. */
function checked({ type }: FieldData, { length, range, pattern }: FieldCheck): Schema {
  const isList = type === 'list'
  const isNumber = type === 'integer' || type === 'float'
  return {
    ...(length &&
      (isList ? { minItems: length[0], maxItems: length[1] } : { minLength: length[0], maxLength: length[1] })),
    ...(range && isNumber && { minimum: range[0], maximum: range[1] }),
    ...(pattern !== undefined && { pattern }),
  }
}
