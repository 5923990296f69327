import { type Condition, contains, type Operand, operandsOf } from '../condition/index.js'
import {
  accepts,
  describeType,
  type FieldData,
  fromPlain,
  InputError,
  isMissing,
  type PlainValue,
  rankOf,
  tableOf,
  type Value,
} from '../model/index.js'
import {
  type Action,
  type Caller,
  type FieldCheck,
  recordChecks,
  type Rulebook,
  rulesOf,
  specialise,
  type Stamps,
  stampsFor,
  withoutChange,
} from '../rules/index.js'
import type { MemoryRecord } from './data.js'
import { evaluator } from './evaluate.js'

/** What is being done with values, and by whom. */
export interface ValuesContext {
  readonly action: Action
  readonly caller: Caller
  readonly now: Date
  /** Problems found elsewhere already, by field; reported together with those found here. */
  readonly found?: Readonly<Record<string, string>>
}

/**
 * Checks values sent to a create, an update or an own action, all of them at once.
 *
 * @returns the same values, those left `undefined` left out
 * @throws {InputError} naming every field that is unknown, of the wrong type, missing where it must not be, or
 *   that fails a check
 */
export function checkValues(rulebook: Rulebook, table: string, given: unknown, context: ValuesContext): MemoryRecord {
  const { fields } = tableOf(rulebook.model, table)
  const { checks } = rulesOf(rulebook, table)
  if (typeof given !== 'object' || given === null || Array.isArray(given)) {
    throw new InputError(table, { values: 'must be an object of values by field' })
  }
  const values: Record<string, unknown> = {}
  const problems: Record<string, string> = { ...context.found }
  for (const [name, value] of Object.entries(given)) {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (!field) problems[name] = `is not a field of ${table}, which has ${Object.keys(fields).join(', ')}`
    else if (value !== undefined) {
      const problem = problemWith(field, value) ?? failedCheck(field, checks.fields[name] ?? {}, value)
      if (problem === undefined) values[name] = value
      else problems[name] = problem
    }
  }
  if (context.action === 'create') {
    const stamped = stampsFor(rulesOf(rulebook, table), 'create')
    for (const name of missingFields(rulebook, table, { ...given, ...stamped })) {
      problems[name] ??= `is missing; it must be ${describeType(fields[name] as FieldData)}`
    }
  }
  const all = { ...failedTogether(rulebook, table, values, problems, context), ...problems }
  if (Object.keys(all).length > 0) throw new InputError(table, all)
  return values
}

/** The fields a create has to have a value for and has none. */
function missingFields(rulebook: Rulebook, table: string, record: MemoryRecord): readonly string[] {
  const { checks } = rulesOf(rulebook, table)
  return Object.entries(tableOf(rulebook.model, table).fields)
    .filter(([name, { optional, generated }]) => {
      const required = checks.fields[name]?.onCreate === 'required' || !(optional || generated)
      return required && isMissing(record[name])
    })
    .map(([name]) => name)
}

/**
 * The record checks that the values alone fail. Those that look at other records, or at fields whose values
 * are not given, are left to whoever has the record.
 */
function failedTogether(
  rulebook: Rulebook,
  table: string,
  values: MemoryRecord,
  problems: Readonly<Record<string, string>>,
  { action, caller, now }: ValuesContext,
): Record<string, string> {
  const checks = recordChecks(rulesOf(rulebook, table))
  if (caller.trusted !== undefined || checks.length === 0) return {}
  const creating = action === 'create'
  const record = creating
    ? { ...values, ...stampValues(stampsFor(rulesOf(rulebook, table), action), caller, now) }
    : values
  const isKnown = (name: string) => !Object.hasOwn(problems, name) && (creating || Object.hasOwn(values, name))
  const failed = checks
    .map((check) => ({ ...check, that: creating ? withoutChange(check.that) : check.that }))
    .filter(({ that }) => dependsOnlyOn(that, isKnown))
    .filter(({ that }) => !evaluator(specialise(that, caller), { caller, now, lookup: () => () => [] })(record))
  return Object.fromEntries(failed.flatMap(({ fields, message }) => fields.map((field) => [field, message])))
}

function dependsOnlyOn(condition: Condition, isKnown: (field: string) => boolean): boolean {
  return !contains(
    condition,
    (part) =>
      ['some', 'may', 'role', 'unchanged', 'after'].includes(part.kind) ||
      operandsOf(part).some(
        ({ kind, ...operand }) => kind === 'old' || (kind === 'field' && !isKnown((operand as { name: string }).name)),
      ),
  )
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
  const rank = (end: PlainValue) => rankOf(fromPlain(field, end) as Value)
  return rankOf(value) >= rank(lowest) && rankOf(value) <= rank(highest)
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
  const stamps = stampValues(stampsToSet(rulebook, table, 'create', caller, values), caller, now)
  const record = Object.fromEntries(Object.keys(fields).map((name) => [name, stamps[name] ?? values[name] ?? null]))
  const missing = missingFields(rulebook, table, record)
  if (missing.length === 0) return record
  throw new InputError(
    table,
    Object.fromEntries(missing.map((name) => [name, 'is missing, and its stamp has no value'])),
  )
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
