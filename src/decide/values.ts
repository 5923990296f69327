import type { Operand } from '../condition/index.js'
import {
  accepts,
  describeType,
  type FieldData,
  fromPlain,
  InputError,
  isMissing,
  type PlainValue,
  tableOf,
  unitsOf,
  type Value,
} from '../model/index.js'
import {
  type Action,
  type Caller,
  type FieldCheck,
  type Rulebook,
  rulesOf,
  type Stamps,
  stampsFor,
} from '../rules/index.js'
import type { MemoryRecord } from './data.js'

/**
 * Checks values sent to a create, an update or an own action, all of them at once.
 *
 * @param more problems found elsewhere already, by field; reported together with those found here
 * @returns the same values, those left `undefined` left out
 * @throws {InputError} naming every field that is unknown, of the wrong type, missing where it must not be, or
 *   that fails its check
 */
export function checkValues(
  rulebook: Rulebook,
  table: string,
  given: unknown,
  more: Readonly<Record<string, string>> = {},
): MemoryRecord {
  const { fields } = tableOf(rulebook.model, table)
  const { checks } = rulesOf(rulebook, table)
  if (typeof given !== 'object' || given === null || Array.isArray(given)) {
    throw new InputError(table, { values: 'must be an object of values by field' })
  }
  const values: Record<string, unknown> = {}
  const problems: Record<string, string> = { ...more }
  for (const [name, value] of Object.entries(given)) {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (!field) problems[name] = `is not a field of ${table}, which has ${Object.keys(fields).join(', ')}`
    else if (value !== undefined) {
      const problem = problemWith(field, value) ?? failedCheck(field, checks.fields[name] ?? {}, value)
      if (problem === undefined) values[name] = value
      else problems[name] = problem
    }
  }
  if (Object.keys(problems).length > 0) throw new InputError(table, problems)
  return values
}

function problemWith(field: FieldData, value: unknown): string | undefined {
  if (value === null) return field.optional ? undefined : `must be ${describeType(field)} and cannot be missing`
  return accepts(field, value) ? undefined : `must be ${describeType(field)}`
}

function failedCheck(field: FieldData, { length, range, pattern }: FieldCheck, value: unknown): string | undefined {
  if (value === null) return undefined
  if (length) {
    const [least, most] = length
    // Characters, not UTF-16 units: an emoji counts once.
    const size = Array.isArray(value) ? value.length : [...(value as string)].length
    const what = Array.isArray(value) ? 'items' : 'characters'
    if (size < least || size > most) return `must have ${least} to ${most} ${what}`
  }
  if (range && !isWithin(field, value as Value, range)) return `must be from ${range[0]} to ${range[1]}`
  if (pattern !== undefined && !new RegExp(pattern, 'u').test(value as string)) return `must match ${pattern}`
  return undefined
}

function isWithin(field: FieldData, value: Value, [lowest, highest]: readonly [PlainValue, PlainValue]): boolean {
  const rank = (each: unknown) => (typeof each === 'string' ? unitsOf(each) : (each as number | bigint | Date))
  return rank(value) >= rank(fromPlain(field, lowest)) && rank(value) <= rank(fromPlain(field, highest))
}

/**
 * The record a create would store: the values given, the stamps, and nothing where neither says.
 *
 * @throws {InputError} naming the fields that need a value and have none
 */
export function recordToCreate(
  rulebook: Rulebook,
  table: string,
  values: MemoryRecord,
  caller: Caller,
  now: Date,
): MemoryRecord {
  const { fields } = tableOf(rulebook.model, table)
  const { checks } = rulesOf(rulebook, table)
  const stamps = stampValues(stampsToSet(rulebook, table, 'create', caller, values), caller, now)
  const record = Object.fromEntries(Object.keys(fields).map((name) => [name, stamps[name] ?? values[name] ?? null]))
  const problems = Object.entries(fields)
    .filter(([name, { optional, generated }]) => {
      const required = checks.fields[name]?.onCreate === 'required' || !(optional || generated)
      return required && isMissing(record[name])
    })
    .map(([name, field]) => [name, `is missing; it must be ${describeType(field)}`])
  if (problems.length > 0) throw new InputError(table, Object.fromEntries(problems))
  return record
}

/** The stamps of an action; what trusted code gives itself is not stamped over. */
export function stampsToSet(
  rulebook: Rulebook,
  table: string,
  action: Action,
  { trusted }: Caller,
  values: MemoryRecord,
): Stamps {
  const stamps = stampsFor(rulesOf(rulebook, table), action)
  if (trusted === undefined) return stamps
  return Object.fromEntries(Object.entries(stamps).filter(([name]) => !Object.hasOwn(values, name)))
}

/** The values the server sets. A caller attribute that is missing leaves the field without a value. */
export function stampValues(stamps: Stamps, caller: Caller, now: Date): MemoryRecord {
  return Object.fromEntries(Object.entries(stamps).map(([name, operand]) => [name, stampValue(operand, caller, now)]))
}

function stampValue(operand: Operand, caller: Caller, now: Date): unknown {
  switch (operand.kind) {
    case 'caller':
      return operand.name === 'roles' ? caller.roles : (caller.attributes[operand.name] ?? null)
    case 'now':
      return new Date(now.getTime() + operand.plusSeconds * 1000)
    case 'value':
      return fromPlain(operand.shape, operand.value)
    case 'field':
    case 'old':
      return null
  }
}
