import { type Compare, compareValues, type Condition, type Operand } from '../condition/index.js'
import { fromPlain, isMissing, sameValue, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Lookup, MemoryRecord } from './data.js'
import type { Facts, Question } from './questions.js'

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

/** The records a condition is about at a moment, by level, the record before a change, and what the world says. */
interface Place {
  readonly records: MemoryRecord[]
  old: MemoryRecord | undefined
  readonly said: readonly unknown[]
}

type Test = (place: Place) => boolean

/** What a condition asks of the world, each found out once, however many records are asked about. */
type Asked = ((world: World) => unknown)[]

interface Compiled {
  readonly test: Test
  readonly asked: Asked
}

/** A condition is compiled once, whoever asks. */
const compiled = new WeakMap<Condition, Compiled>()

function compiledFrom(condition: Condition): Compiled {
  const known = compiled.get(condition)
  if (known) return known
  const asked: Asked = []
  const made = { test: compile(condition, asked), asked }
  compiled.set(condition, made)
  return made
}

/**
 * Compiles a condition, free of `may`, to a function of one record. What the world says is looked up once, so
 * that each record costs no more than its own fields; the same condition in another world is not compiled again.
 *
 * @example
 * const isAuthor = evaluator(rules.tables.entries.ties.author, { caller, now: new Date(), lookup: lookupIn(data) })
 * entries.filter(isAuthor)
 */
export function evaluator(condition: Condition, world: World): (record: MemoryRecord) => boolean {
  const { test, asked } = compiledFrom(condition)
  // Evaluation never overlaps itself: one place serves all records, and nothing is allocated for each.
  const place: Place = { records: [], old: undefined, said: asked.map((each) => each(world)) }
  return (record) => {
    place.records[0] = record
    return test(place)
  }
}

/**
 * The same for a condition that stands inside of steps.
 *
 * @returns a function of the records by level, and of the first as it was before a change
 */
export function evaluatorInside(
  condition: Condition,
  world: World,
): (records: readonly MemoryRecord[], old?: MemoryRecord) => boolean {
  const { test, asked } = compiledFrom(condition)
  const said = asked.map((each) => each(world))
  return (records, old) => test({ records: [...records], old, said })
}

/**
 * Compiles questions together, so that one look at the world serves all of them. Each is answered when its answer is
 * wanted, and once; a question nobody asked has the answer no.
 */
export function factsFrom(questions: readonly Question[]): (world: World) => (record: MemoryRecord) => Facts {
  const asked: Asked = []
  const tests = new Map(questions.map(({ id, condition }) => [id, compile(condition, asked)]))
  return (world) => {
    const said = asked.map((each) => each(world))
    return (record) => {
      const place: Place = { records: [record], old: undefined, said }
      const known = new Map<string, boolean>()
      return (id) => {
        let holds = known.get(id)
        if (holds === undefined) known.set(id, (holds = tests.get(id)?.(place) ?? false))
        return holds
      }
    }
  }
}

function compile(condition: Condition, asked: Asked): Test {
  switch (condition.kind) {
    case 'always':
      return () => true
    case 'never':
      return () => false
    case 'all':
    case 'any':
      return combine(
        condition.kind,
        condition.of.map((part) => compile(part, asked)),
      )
    case 'not': {
      const part = compile(condition.of, asked)
      return (place) => !part(place)
    }
    case 'after':
      return compileAfter(compile(condition.of, asked), asked)
    case 'unchanged': {
      const next = says(asked, (world) => ({ ...nextOf(world), ...world.sent }))
      return (place) => unchangedIn(condition.field, place.old ?? place.records[0], next(place))
    }
    case 'isSet': {
      const read = reader(condition.operand, asked)
      return (place) => !isMissing(read(place))
    }
    case 'signedIn':
      return says(asked, ({ caller }) => caller.signedIn)
    case 'role':
      return says(asked, ({ caller }) => condition.anyOf.some((role) => caller.roles.includes(role)))
    case 'channel':
      return says(asked, ({ caller: { channel } }) => channel !== undefined && condition.anyOf.includes(channel))
    case 'compare':
      return compileIs(condition, asked) ?? compileCompare(condition, asked)
    case 'some':
      return compileSome(condition, asked)
    case 'may':
      throw new TypeError('A may condition has to be expanded before it is evaluated.')
  }
}

/** Reads what the world says to something. */
function says<T>(asked: Asked, what: (world: World) => T): (place: Place) => T {
  const at = asked.push(what) - 1
  return ({ said }) => said[at] as T
}

/** Two parts, by far the most frequent, need no loop. */
function combine(kind: 'all' | 'any', [first, ...more]: readonly Test[]): Test {
  if (!first) return () => kind === 'all'
  if (more.length === 0) return first
  const rest = combine(kind, more)
  return kind === 'all' ? (place) => first(place) && rest(place) : (place) => first(place) || rest(place)
}

function compileAfter(test: Test, asked: Asked): Test {
  const next = says(asked, nextOf)
  return (place) => {
    const { records, old } = place
    const before = records[0] as MemoryRecord
    records[0] = next(place)
    place.old = before
    try {
      return test(place)
    } finally {
      records[0] = before
      place.old = old
    }
  }
}

function compileSome({ table, from, to, where }: Condition & { kind: 'some' }, asked: Asked): Test {
  const inner = compile(where, asked)
  const read = reader(from, asked)
  const { level, field } = to
  const find = says(asked, ({ lookup }) => lookup(table, field))
  return (place) => {
    const value = read(place)
    if (isMissing(value)) return false
    const found = find(place)(value)
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

/** By far the most frequent comparison, of a field with a value: where that is a plain one, nothing else is equal to it. */
function compileIs({ how, left, right }: Compare, asked: Asked): Test | undefined {
  if (how !== 'is' || left.kind !== 'field' || (right.kind !== 'value' && right.kind !== 'caller')) return undefined
  const { level, name } = left
  const wants = reader(right, asked)
  return (place) => {
    const is = (place.records[level] as MemoryRecord)[name]
    const wanted = wants(place)
    return typeof wanted === 'object' ? compareValues('is', is, wanted) : is === wanted
  }
}

function compileCompare({ how, left, right }: Compare, asked: Asked): Test {
  const [readLeft, readRight] = [reader(left, asked), reader(right, asked)]
  return (place) => compareValues(how, readLeft(place), readRight(place))
}

function reader(operand: Operand, asked: Asked): (place: Place) => unknown {
  switch (operand.kind) {
    case 'field': {
      const { level, name } = operand
      return ({ records }) => (records[level] as MemoryRecord)[name]
    }
    case 'old':
      return ({ old }) => old?.[operand.name]
    case 'value': {
      const value = fromPlain(operand.shape, operand.value)
      return () => value
    }
    case 'given':
      throw new TypeError('A value that comes with a request is known to databases only.')
    case 'caller':
    case 'now':
      return says(asked, (world) => sourceOf(operand, world))
  }
}

/** What the world has for an operand that is not about records; `null` where it is missing. */
function sourceOf(operand: Operand & { readonly kind: 'caller' | 'now' }, { caller, now }: World): unknown {
  if (operand.kind === 'now') return new Date(now.getTime() + operand.plusSeconds * 1000)
  if (operand.name === 'roles') return caller.signedIn ? caller.roles : null
  return Object.hasOwn(caller.attributes, operand.name) ? (caller.attributes[operand.name] ?? null) : null
}

function nextOf({ next }: World): MemoryRecord {
  if (next) return next
  throw new TypeError('There is no record after a change.')
}

function unchangedIn(field: string, before: MemoryRecord | undefined, next: MemoryRecord): boolean {
  const [was, is] = [before?.[field], next[field]]
  return isMissing(was) ? isMissing(is) : !isMissing(is) && sameValue(was as Value, is as Value)
}
