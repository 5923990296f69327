import type { Compare, Comparison, Condition, Operand } from '../condition/index.js'
import { fromPlain, isMissing, rankOf, sameValue, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Lookup, MemoryRecord } from './data.js'

/** What a condition is evaluated against, besides the record itself. */
export interface World {
  readonly caller: Caller
  readonly now: Date
  readonly lookup: Lookup
  /** The record as it will be, for conditions on an update. */
  readonly next?: MemoryRecord
  /** The values that were sent for an update. */
  readonly sent?: MemoryRecord
}

/** The records a condition is about at a moment, by level, and the record before a change. */
interface Place {
  readonly records: MemoryRecord[]
  old: MemoryRecord | undefined
}

type Test = (place: Place) => boolean

/** A value that is always the same, or one to be read at a place. */
type Source = { readonly value: unknown } | { readonly read: (place: Place) => unknown }

/**
 * Compiles a condition, free of `may`, to a function of one record. What the world says is looked up once, so
 * that each record costs no more than its own fields.
 *
 * @example
 * const isAuthor = evaluator(rules.tables.entries.ties.author, { caller, now: new Date(), lookup: lookupIn(data) })
 * entries.filter(isAuthor)
 */
export function evaluator(condition: Condition, world: World): (record: MemoryRecord) => boolean {
  const test = compile(condition, world)
  // Evaluation never overlaps itself: one place serves all records, and nothing is allocated for each.
  const place: Place = { records: [], old: undefined }
  return (record) => {
    place.records[0] = record
    return test(place)
  }
}

function compile(condition: Condition, world: World): Test {
  switch (condition.kind) {
    case 'always':
      return () => true
    case 'never':
      return () => false
    case 'all':
      return every(condition.of.map((part) => compile(part, world)))
    case 'any':
      return some(condition.of.map((part) => compile(part, world)))
    case 'not': {
      const part = compile(condition.of, world)
      return (place) => !part(place)
    }
    case 'after':
      return compileAfter(compile(condition.of, world), world)
    case 'unchanged':
      return ({ records, old }) => unchangedIn(condition.field, old ?? records[0], { ...nextOf(world), ...world.sent })
    case 'isSet': {
      const read = reader(condition.operand, world)
      return (place) => !isMissing(read(place))
    }
    case 'signedIn':
      return constant(world.caller.signedIn)
    case 'role':
      return constant(condition.anyOf.some((role) => world.caller.roles.includes(role)))
    case 'channel':
      return constant(world.caller.channel !== undefined && condition.anyOf.includes(world.caller.channel))
    case 'compare':
      return compileIs(condition, world) ?? compileCompare(condition, world)
    case 'some':
      return compileSome(condition, world)
    case 'may':
      throw new TypeError('A may condition has to be expanded before it is evaluated.')
  }
}

const constant = (value: boolean): Test => (value ? () => true : () => false)

/** Two parts, by far the most frequent, need no loop. */
function every(parts: readonly Test[]): Test {
  const [first, second, ...more] = parts
  if (!first) return () => true
  if (!second) return first
  const rest = every([second, ...more])
  return (place) => first(place) && rest(place)
}

function some(parts: readonly Test[]): Test {
  const [first, second, ...more] = parts
  if (!first) return () => false
  if (!second) return first
  const rest = some([second, ...more])
  return (place) => first(place) || rest(place)
}

function compileAfter(test: Test, world: World): Test {
  return (place) => {
    const { records, old } = place
    const before = records[0] as MemoryRecord
    records[0] = nextOf(world)
    place.old = before
    try {
      return test(place)
    } finally {
      records[0] = before
      place.old = old
    }
  }
}

function compileSome({ table, from, to, where }: Condition & { kind: 'some' }, world: World): Test {
  const inner = compile(where, world)
  const read = reader(from, world)
  const { level, field } = to
  const find = world.lookup(table, field)
  return (place) => {
    const value = read(place)
    if (isMissing(value)) return false
    const found = find(value)
    // A step around this one may be at the same level: afterwards, it is still at its own record.
    const around = place.records[level] as MemoryRecord
    let holds = false
    for (let at = 0; at < found.length && !holds; at += 1) {
      place.records[level] = found[at] as MemoryRecord
      holds = inner(place)
    }
    place.records[level] = around
    return holds
  }
}

/** By far the most frequent comparison, of a field with a plain value: equal to nothing but itself. */
function compileIs({ how, left, right }: Compare, world: World): Test | undefined {
  const to = source(right, world)
  if (how !== 'is' || left.kind !== 'field' || !('value' in to) || typeof to.value === 'object') return undefined
  const { level, name } = left
  const { value } = to
  return ({ records }) => (records[level] as MemoryRecord)[name] === value
}

function compileCompare({ how, left, right }: Compare, world: World): Test {
  const compare = COMPARE[how]
  const [readLeft, readRight] = [reader(left, world), reader(right, world)]
  return (place) => {
    const from = readLeft(place)
    if (isMissing(from)) return false
    const to = readRight(place)
    return !isMissing(to) && compare(from as Value, to as Value)
  }
}

function reader(operand: Operand, world: World): (place: Place) => unknown {
  const from = source(operand, world)
  if ('value' in from) return () => from.value
  return from.read
}

/** Whether a comparison of two values holds; with a missing one, none does. */
export function compareValues(how: Comparison, left: unknown, right: unknown): boolean {
  return !isMissing(left) && !isMissing(right) && COMPARE[how](left as Value, right as Value)
}

const COMPARE: Readonly<Record<Comparison, (left: Value, right: Value) => boolean>> = {
  is: sameValue,
  below: (left, right) => rankOf(left) < rankOf(right),
  atMost: (left, right) => rankOf(left) <= rankOf(right),
  above: (left, right) => rankOf(left) > rankOf(right),
  atLeast: (left, right) => rankOf(left) >= rankOf(right),
  startsWith: (left, right) => (left as string).startsWith(right as string),
  in: (left, right) => (right as readonly Value[]).includes(left),
  overlaps: (left, right) => (right as readonly Value[]).some((item) => (left as readonly Value[]).includes(item)),
  includesAll: (left, right) => (right as readonly Value[]).every((item) => (left as readonly Value[]).includes(item)),
}

function source(operand: Operand, { caller, now }: World): Source {
  switch (operand.kind) {
    case 'field': {
      const { level, name } = operand
      return { read: ({ records }) => (records[level] as MemoryRecord)[name] }
    }
    case 'old':
      return { read: ({ old }) => old?.[operand.name] }
    case 'caller':
      if (operand.name === 'roles') return { value: caller.signedIn ? caller.roles : null }
      return { value: Object.hasOwn(caller.attributes, operand.name) ? caller.attributes[operand.name] : null }
    case 'given':
      throw new TypeError('A value that comes with a request is known to databases only.')
    case 'now':
      return { value: new Date(now.getTime() + operand.plusSeconds * 1000) }
    case 'value':
      return { value: fromPlain(operand.shape, operand.value) }
  }
}

function nextOf({ next }: World): MemoryRecord {
  if (next) return next
  throw new TypeError('A condition on the record after a change needs the record after the change.')
}

function unchangedIn(field: string, before: MemoryRecord | undefined, next: MemoryRecord): boolean {
  const [was, is] = [before?.[field], next[field]]
  return isMissing(was) ? isMissing(is) : !isMissing(is) && sameValue(was as Value, is as Value)
}
