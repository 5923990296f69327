import { type Compare, compareValues, type Condition, type Operand } from '../condition/index.js'
import { isMissing } from '../model/index.js'
import type { Lookup, MemoryRecord } from './data.js'
import type { Facts, Question } from './questions.js'
import { Asked, unchangedIn, type World } from './world.js'

/** The records a condition is about at a moment, by level, the record before a change, and what the world says. */
interface Place {
  readonly records: MemoryRecord[]
  old: MemoryRecord | undefined
  readonly said: readonly unknown[]
}

type Test = (place: Place) => boolean

interface Compiled {
  readonly test: Test
  readonly asked: Asked
}

/** A condition is compiled once, whoever asks. */
const compiled = new WeakMap<Condition, Compiled>()

function compiledFrom(condition: Condition): Compiled {
  const known = compiled.get(condition)
  if (known) return known
  const asked = new Asked()
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
  const place: Place = { records: [], old: undefined, said: asked.answeredBy(world) }
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
  const said = asked.answeredBy(world)
  return (records, old) => test({ records: [...records], old, said })
}

/**
 * Compiles questions together, so that one look at the world serves all of them. Each is answered when its answer is
 * wanted, and once; a question nobody asked has the answer no.
 */
export function factsFrom(questions: readonly Question[]): (world: World) => (record: MemoryRecord) => Facts {
  const { asked, tests, places } = compileAll(questions)
  return (world) => {
    const said = asked.answeredBy(world)
    return (record) => {
      const place: Place = { records: [record], old: undefined, said }
      const known: boolean[] = []
      return (id) => {
        const at = places.get(id)
        return at !== undefined && (known[at] ??= (tests[at] as Test)(place))
      }
    }
  }
}

/** So many answers fit into one number exactly. */
const ANSWERS = 50

/** The answers to questions, all in one number. */
export interface Answers {
  /** A number for the answers about each record: the same for the same answers. */
  in(world: World): (record: MemoryRecord) => number
  /** What they are, one by one; a question nobody asked has the answer no. */
  factsOf(answers: number): Facts
}

/**
 * Compiles questions together, to be answered all at once: whatever hangs on nothing but the answers need be worked out only
 * once for each that there are.
 *
 * @returns nothing where there are too many
 */
export function answersFrom(questions: readonly Question[]): Answers | undefined {
  if (questions.length > ANSWERS) return undefined
  const { asked, tests, places } = compileAll(questions)
  return {
    in: (world) => {
      const place: Place = { records: [], old: undefined, said: asked.answeredBy(world) }
      return (record) => {
        place.records[0] = record
        let answers = 0
        for (const test of tests) answers = answers * 2 + (test(place) ? 1 : 0)
        return answers
      }
    },
    factsOf: (answers) => (id) => {
      const at = places.get(id)
      return at !== undefined && Math.floor(answers / 2 ** (tests.length - 1 - at)) % 2 === 1
    },
  }
}

/** Questions, and where the answer to each is. */
function compileAll(questions: readonly Question[]) {
  const asked = new Asked()
  const tests = questions.map(({ condition }) => compile(condition, asked))
  return { asked, tests, places: new Map(questions.map(({ id }, at) => [id, at])) }
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
      return compileAfter(compile(condition.of, asked), says(asked, condition))
    case 'unchanged': {
      const next = says<MemoryRecord>(asked, condition)
      return (place) => unchangedIn(condition.field, place.old ?? place.records[0], next(place))
    }
    case 'isSet': {
      const read = reader(condition.operand, asked)
      return (place) => !isMissing(read(place))
    }
    case 'signedIn':
    case 'role':
    case 'channel':
      return says(asked, condition)
    case 'compare':
      return compileIs(condition, asked) ?? compileCompare(condition, asked)
    case 'some':
      return condition.chain === undefined
        ? compileSome(condition, asked)
        : compileChain(condition, condition.chain, asked)
    case 'may':
      throw new TypeError('A may condition has to be expanded before it is evaluated.')
  }
}

/** Two parts, by far the most frequent, need no loop. */
function combine(kind: 'all' | 'any', [first, ...more]: readonly Test[]): Test {
  if (!first) return () => kind === 'all'
  if (more.length === 0) return first
  const rest = combine(kind, more)
  return kind === 'all' ? (place) => first(place) && rest(place) : (place) => first(place) || rest(place)
}

function compileAfter(test: Test, next: (place: Place) => MemoryRecord): Test {
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

function compileSome(condition: Condition & { kind: 'some' }, asked: Asked): Test {
  const { from, to, where } = condition
  const inner = compile(where, asked)
  const read = reader(from, asked)
  const { level } = to
  const find = says<ReturnType<Lookup>>(asked, condition)
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

/** Goes up a chain, and ends where it comes back to a record that it has been at. */
function compileChain(
  { from, to, where, through, table, ...step }: Condition & { kind: 'some' },
  chain: string,
  asked: Asked,
): Test {
  const [inner, passes] = [compile(where, asked), through ? compile(through, asked) : () => true]
  const [read, next] = [reader(from, asked), reader({ kind: 'field', level: to.level, name: chain }, asked)]
  const { level } = to
  const find = says<ReturnType<Lookup>>(asked, { ...step, from, to, where, table })
  return (place) => {
    const around = place.records[level] as MemoryRecord
    const passed = new Set<unknown>()
    let holds = false
    for (let value = read(place); !holds && !isMissing(value); value = next(place)) {
      const at = value instanceof Date ? value.getTime() : value
      const [record] = passed.has(at) ? [] : find(place)(value)
      if (!record) break
      passed.add(at)
      place.records[level] = record
      if (!passes(place)) break
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
    case 'value':
    case 'given':
    case 'caller':
    case 'now':
      return says(asked, operand)
  }
}

/** Reads what the world says. */
function says<T>(asked: Asked, to: Condition | Operand): (place: Place) => T {
  const at = asked.placeOf(to)
  return ({ said }) => said[at] as T
}
