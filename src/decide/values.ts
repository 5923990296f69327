import type { Operand } from '../condition/index.js'
import {
  accepts,
  describeType,
  type FieldData,
  fieldOf,
  freshValue,
  fromPlain,
  isMissing,
  LIMITS,
  numbersUpTo,
  ownValue,
  type PlainValue,
  rankOf,
  tableOf,
  type Value,
} from '../model/index.js'
import {
  type Action,
  type Caller,
  compilePattern,
  type FieldCheck,
  type Rulebook,
  rulesOf,
  type Stamps,
  stampsFor,
} from '../rules/index.js'
import type { MemoryRecord } from './data.js'

/** Values that were sent, read: those that fit the model, and what is wrong with the others. */
export interface Reading {
  /** The values that are of their fields' types, those left `undefined` left out. */
  readonly values: MemoryRecord
  /** The fields of the table that a value was given for, fit or not. */
  readonly fields: readonly string[]
  /** The fields that have no value that could be looked at: of the wrong type, or missing where there must be one. */
  readonly unfit: readonly string[]
  /** What is wrong, by field: unknown, of the wrong type, missing, or failing a check. */
  readonly problems: ReadonlyMap<string, string>
}

/**
 * Reads values sent to a create, an update or an own action. What is wrong with them is told only once it is known that
 * the caller may write at all: by the verdict.
 *
 * @param found problems found elsewhere already, by field; reported together with those found here
 */
export function readValues(
  rulebook: Rulebook,
  table: string,
  action: Action,
  given: unknown,
  found: ReadonlyMap<string, string> = new Map(),
): Reading {
  const { fields } = tableOf(rulebook.model, table)
  const { checks } = rulesOf(rulebook, table)
  const problems = new Map(found)
  if (typeof given !== 'object' || given === null || Array.isArray(given)) {
    problems.set('values', 'must be an object of values by field')
    return { values: {}, fields: [], unfit: Object.keys(fields), problems }
  }
  const values: Record<string, unknown> = {}
  const [known, unfit]: [string[], string[]] = [[], []]
  for (const [name, value] of Object.entries(given)) {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (!field) problems.set(name, `is not a field of ${table}`)
    else if (value !== undefined) {
      known.push(name)
      const misfit = problemWith(field, value) ?? (action === 'create' ? misnumbered(field, value) : undefined)
      if (misfit === undefined) values[name] = value === null ? null : ownValue(field, value as Value)
      else unfit.push(name)
      const problem = misfit ?? failedCheck(field, checks.fields[name] ?? {}, value)
      if (problem !== undefined && !problems.has(name)) problems.set(name, problem)
    }
  }
  if (action === 'create') {
    const stamped = stampsFor(rulesOf(rulebook, table), 'create')
    for (const name of missingFields(rulebook, table, { ...given, ...stamped })) {
      unfit.push(name)
      if (!problems.has(name)) problems.set(name, `is missing; it must be ${describeType(fields[name] as FieldData)}`)
    }
  }
  return { values, fields: known, unfit, problems }
}

/** Numbers go on from the highest there is: one near the end of what fits would be the last. */
function misnumbered(field: FieldData, value: unknown): string | undefined {
  const most = numbersUpTo(field)
  if (!field.generated || most === undefined || value === null) return undefined
  const number = value as number | bigint
  return number >= 1 && number <= most ? undefined : `must be from 1 to ${most}, since further numbers go on from it`
}

/** Whether a create has to have a value for a field. */
export function isNeeded(rulebook: Rulebook, table: string, name: string): boolean {
  const rules = rulesOf(rulebook, table)
  const { optional, generated, filled } = fieldOf(rulebook.model, table, name)
  // What is stamped was relied on: the database's own default would be another value.
  const isRelied = filled !== undefined && Object.hasOwn(stampsFor(rules, 'create'), name)
  return isRelied || rules.checks.fields[name]?.onCreate === 'required' || !(optional || generated || filled)
}

/** The fields a create has to have a value for and has none. */
const missingFields = (rulebook: Rulebook, table: string, record: MemoryRecord): readonly string[] =>
  Object.keys(tableOf(rulebook.model, table).fields).filter(
    (name) => isMissing(record[name]) && isNeeded(rulebook, table, name),
  )

function problemWith(field: FieldData, value: unknown): string | undefined {
  if (field.filled === 'computed') return 'is computed by the database and cannot be given'
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
  if (pattern === undefined) return undefined
  if ((value as string).length > LIMITS.patternText) return `must have at most ${LIMITS.patternText} characters`
  return compilePattern(pattern)(value as string) ? undefined : `must match ${pattern}`
}

function isWithin(field: FieldData, value: Value, [lowest, highest]: readonly [PlainValue, PlainValue]): boolean {
  const rank = (end: PlainValue) => rankOf(fromPlain(field, end) as Value)
  return rankOf(value) >= rank(lowest) && rankOf(value) <= rank(highest)
}

/** The record a create would store: the stamps, whatever was given for them, the other values, and nothing where neither says. */
export function recordToCreate(
  rulebook: Rulebook,
  table: string,
  values: MemoryRecord,
  caller: Caller,
  now: Date,
): MemoryRecord {
  const { fields } = tableOf(rulebook.model, table)
  const stamps = stampValues(stampsToSet(rulebook, table, 'create', caller, values), caller, now)
  return Object.fromEntries(
    Object.keys(fields).map((name) => {
      const { [name]: value } = Object.hasOwn(stamps, name) ? stamps : values
      return [name, value ?? filledIn(fields[name]) ?? null]
    }),
  )
}

/** A value made for a field that is filled in, where the database does not do that. */
const filledIn = (field: FieldData | undefined): Value | undefined => (field?.generated ? freshValue(field) : undefined)

/**
 * What is wrong with a record that a create would store: with what was given, or else what is missing, since its stamps
 * have no value for this caller.
 */
export function problemsOfNew(
  rulebook: Rulebook,
  table: string,
  { problems }: Reading,
  record: MemoryRecord,
): Reading['problems'] {
  if (problems.size > 0) return problems
  const missing = missingFields(rulebook, table, record)
  return new Map(missing.map((name) => [name, 'is missing, and its stamp has no value']))
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
  return Object.fromEntries(
    Object.entries(stamps).map(([name, operand]) => [name, valueWithoutRecord(operand, caller, now)]),
  )
}

/** The value of an operand that no record has a say in; none for a field. */
export function valueWithoutRecord(operand: Operand, { attributes, roles }: Caller, now: Date): unknown {
  switch (operand.kind) {
    case 'caller':
      return operand.name === 'roles' ? roles : (attributes[operand.name] ?? null)
    case 'now':
      return new Date(now.getTime() + operand.plusSeconds * 1000)
    case 'value':
      return fromPlain(operand.shape, operand.value)
    case 'field':
    case 'old':
    case 'given':
      return null
  }
}
