import type { Operand } from '../condition/index.js'
import { accepts, describeType, fromPlain, InputError, isMissing, type ModelData, tableOf } from '../model/index.js'
import type { Caller, Rulebook, Stamps } from '../rules/index.js'
import { rulesOf } from '../rules/index.js'
import type { MemoryRecord } from './data.js'

/**
 * Checks values sent to a create or an update, all of them at once.
 *
 * @returns the same values, those left `undefined` left out
 * @throws {InputError} naming every field that is unknown, of the wrong type or missing where it must not be
 */
export function checkValues(model: ModelData, table: string, given: unknown): MemoryRecord {
  const { fields } = tableOf(model, table)
  if (typeof given !== 'object' || given === null || Array.isArray(given)) {
    throw new InputError(table, { values: 'must be an object of values by field' })
  }
  const values: Record<string, unknown> = {}
  const problems: Record<string, string> = {}
  for (const [name, value] of Object.entries(given)) {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined
    if (!field) problems[name] = `is not a field of ${table}, which has ${Object.keys(fields).join(', ')}`
    else if (value === undefined) continue
    else if (value === null && !field.optional) problems[name] = `must be ${describeType(field)} and cannot be missing`
    else if (value !== null && !accepts(field, value)) problems[name] = `must be ${describeType(field)}`
    else values[name] = value
  }
  if (Object.keys(problems).length > 0) throw new InputError(table, problems)
  return values
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
  const stamps = stampValues(rulesOf(rulebook, table).stamps.create, caller, now)
  const record = Object.fromEntries(Object.keys(fields).map((name) => [name, stamps[name] ?? values[name] ?? null]))
  const problems = Object.entries(fields)
    .filter(([name, { optional, generated }]) => isMissing(record[name]) && !optional && !generated)
    .map(([name, field]) => [name, `is missing; it must be ${describeType(field)}`])
  if (problems.length > 0) throw new InputError(table, Object.fromEntries(problems))
  return record
}

/** The values the server sets. A caller attribute that is missing leaves the field without a value. */
export function stampValues(stamps: Stamps, caller: Caller, now: Date): MemoryRecord {
  return Object.fromEntries(Object.entries(stamps).map(([name, operand]) => [name, stampValue(operand, caller, now)]))
}

function stampValue(operand: Operand, caller: Caller, now: Date): unknown {
  switch (operand.kind) {
    case 'caller':
      return caller.attributes[operand.name] ?? null
    case 'now':
      return new Date(now.getTime() + operand.plusSeconds * 1000)
    case 'value':
      return fromPlain(operand.shape, operand.value)
    case 'field':
      return null
  }
}
