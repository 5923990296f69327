import { assertCondition, type Condition, isTerm, type Operand, operandFrom, RuleError } from '../condition/index.js'
import { fieldOf, type ModelData, show, toPlain, type Value } from '../model/index.js'
import type { Deny, FieldCheck, Gone, Grant, RecordCheck, Stamps, TableRules, Who } from './rulebook.js'

/** What can stand under a name, and that in words. */
type Part = readonly [fits: (value: unknown) => boolean, what: string]

const isText = (value: unknown): value is string => typeof value === 'string' && value !== ''

/** A condition, or who is meant: looked at where it is read. */
const ANY: Part = [() => true, 'anything']
const TEXT: Part = [isText, 'a text, and not an empty one']
const NAMES: Part = [(value) => Array.isArray(value) && value.every(isText), 'a list of names of fields']
const PAIR: Part = [(value) => Array.isArray(value) && value.length === 2, 'the first and the last of what is allowed']

/**
 * What each of them can say, and what it has to. What is not known here, or is nothing, is refused: a condition that was left out
 * in silence would open what it was to limit.
 */
const SAID = {
  grant: {
    to: ANY,
    'fields?': NAMES,
    'when?': ANY,
    'after?': ANY,
    'gone?': [(value: unknown) => value === true, 'true'],
  },
  'grant as for another': { asFor: TEXT, 'fields?': NAMES },
  deny: { on: ANY, when: ANY, message: TEXT, 'except?': ANY },
  check: {
    'onCreate?': [(value: unknown) => value === 'required', "'required'"],
    'onUpdate?': [(value: unknown) => value === 'forbidden', "'forbidden'"],
    'length?': PAIR,
    'range?': PAIR,
    'pattern?': [(value: unknown) => value instanceof RegExp, 'a regular expression'],
  },
  'check on records': { that: ANY, message: TEXT, fields: NAMES },
  'condition gone': {
    'onDelete?': [(value: unknown) => typeof value === 'object' && value !== null, 'values by field'],
  },
} as const satisfies Readonly<Record<string, Readonly<Record<string, Part>>>>

/** @throws {RuleError} where something says what means nothing there, or does not say what it has to */
function assertSaid(kind: keyof typeof SAID, given: unknown): void {
  const known: Readonly<Record<string, Part>> = SAID[kind]
  const names = Object.keys(known).map((name) => name.replace('?', ''))
  if (typeof given !== 'object' || given === null)
    throw new RuleError(`a ${kind} is ${show(given)}; it says ${names.join(', ')}.`)
  const missing = names.find((name) => Object.hasOwn(known, name) && !Object.hasOwn(given, name))
  if (missing !== undefined) throw new RuleError(`a ${kind} says nothing of ${missing}, which it has to.`)
  for (const [name, value] of Object.entries(given)) {
    const part = names.includes(name) && (own(known, name) ?? own(known, `${name}?`))
    if (!part)
      throw new RuleError(`a ${kind} says ${show(name)}, which means nothing there; it says ${names.join(', ')}.`)
    const [fits, what] = part
    if (value === undefined) throw new RuleError(`a ${kind} says ${name}, and nothing of it; leave it out, or say it.`)
    if (!fits(value)) throw new RuleError(`${name} of a ${kind} is ${show(value)}; it must be ${what}.`)
  }
}

const own = <A>(all: Readonly<Record<string, A>>, name: string): A | undefined =>
  Object.hasOwn(all, name) ? all[name] : undefined

/** The grants of a table, where more are added to those that there are. */
export function plainGrants(before: TableRules['grants'], given: object): TableRules['grants'] {
  const added = (action: string): readonly unknown[] => [
    ...(own(before, action) ?? []),
    ...several(own(given as Readonly<Record<string, unknown>>, action) ?? []),
  ]
  return mapEntries(given, (_, action) => added(action).flatMap((grant) => plainGrant(added, grant)))
}

function plainGrant(grantsOf: (action: string) => readonly unknown[], given: unknown): readonly Grant[] {
  if (typeof given === 'string' || has(given, 'kind')) return [{ to: [plainWho(given)] }]
  if (has(given, 'asFor')) return asFor(grantsOf, given)
  assertSaid('grant', given)
  const { to, fields, when, after, gone } = given as Grant
  return [
    {
      to: several<unknown>(to).map(plainWho),
      ...(fields && { fields }),
      ...(when !== undefined && { when: assertCondition(when) }),
      ...(after !== undefined && { after: assertCondition(after) }),
      ...(gone && { gone }),
    },
  ]
}

/** The grants of another action. Whatever limits that limits this one. */
function asFor(grantsOf: (action: string) => readonly unknown[], given: object): readonly Grant[] {
  assertSaid('grant as for another', given)
  const { asFor: action, fields } = given as { readonly asFor: string; readonly fields?: readonly string[] }
  const model = (action === 'list' || action === 'get' ? ['read', action] : [action]).flatMap(grantsOf)
  if (model.length === 0) throw new RuleError(`asFor '${action}' leads to no grant; grant that, or name who may.`)
  if (model.some((grant) => has(grant, 'asFor'))) {
    throw new RuleError(`asFor '${action}' leads to another asFor; name the action that says who.`)
  }
  return model.flatMap((grant) => plainGrant(grantsOf, grant)).map((grant) => (fields ? { ...grant, fields } : grant))
}

const has = (given: unknown, name: string): given is object =>
  typeof given === 'object' && given !== null && name in given

const plainWho = (who: unknown): Who => (typeof who === 'string' ? who : assertCondition(who))

export function plainDeny(deny: unknown): Deny {
  assertSaid('deny', deny)
  const { on, when, except = [], message } = deny as Deny
  return { on: several(on), when: assertCondition(when), except: several<Who>(except).map(plainWho), message }
}

export function plainRecordCheck(check: unknown): RecordCheck {
  assertSaid('check on records', check)
  const { that, message, fields } = check as RecordCheck
  return { that: assertCondition(that), message, fields }
}

export function plainGone(model: ModelData, table: string, when: Condition, options: object): Gone {
  assertSaid('condition gone', options)
  const { onDelete } = options as { readonly onDelete?: object }
  return { when: assertCondition(when), ...(onDelete && { onDelete: plainStamps(model, table, onDelete) }) }
}

export const plainStamps = (model: ModelData, table: string, stamps: unknown): Stamps =>
  mapEntries(stamps as object, (value, field) => stampOperand(model, table, field, value))

function stampOperand(model: ModelData, table: string, field: string, value: unknown): Operand {
  const { operand } = operandFrom(fieldOf(model, table, field), value)
  if (isTerm(value) && operand.kind !== 'caller' && operand.kind !== 'now') {
    throw new RuleError(`The stamp of ${table}.${field} cannot be taken from a field; use the caller, now or a value.`)
  }
  return operand
}

type AnyCheck = Omit<FieldCheck, 'range' | 'pattern'> & { readonly range?: readonly Value[]; readonly pattern?: RegExp }

export function plainCheck(model: ModelData, table: string, field: string, given: unknown): FieldCheck {
  assertSaid('check', given)
  const { range, pattern, ...rest } = given as AnyCheck
  if (pattern && !['', 'u'].includes(pattern.flags)) {
    throw new RuleError(
      `The pattern for ${table}.${field} has the flags ${pattern.flags}; only u is kept, write the rest out.`,
    )
  }
  const shape = fieldOf(model, table, field)
  return {
    ...rest,
    ...(range && { range: range.map((value) => toPlain(shape, value)) as unknown as FieldCheck['range'] & object }),
    ...(pattern && { pattern: pattern.source }),
  }
}

const several = <V>(given: V | readonly V[]): readonly V[] => (Array.isArray(given) ? given : [given as V])

/** The same names with other things under them. */
export function mapEntries<A>(given: object, change: (value: unknown, name: string) => A): Record<string, A> {
  return Object.fromEntries(Object.entries(given).map(([name, value]) => [name, change(value, name)]))
}
