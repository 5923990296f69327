import type { Comparison, Condition, Operand } from '../condition/index.js'
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
  /** The record as it was, inside a condition on how it will be. */
  readonly old?: MemoryRecord
}

/** A condition ready to be asked; `scopes` holds the records by level. */
type Test = (world: World, scopes: readonly MemoryRecord[]) => boolean
type Read = (world: World, scopes: readonly MemoryRecord[]) => unknown

/**
 * Compiles a condition, free of `may`, to a function of one record.
 *
 * @example
 * const isAuthor = evaluator(rules.tables.entries.ties.author)
 * isAuthor(entry, { caller, now: new Date(), lookup: lookupIn(data) })
 */
export function evaluator(condition: Condition): (record: MemoryRecord, world: World) => boolean {
  const test = compile(condition)
  return (record, world) => test(world, [record])
}

function compile(condition: Condition): Test {
  switch (condition.kind) {
    case 'always':
      return () => true
    case 'never':
      return () => false
    case 'all': {
      const parts = condition.of.map(compile)
      return (world, scopes) => parts.every((part) => part(world, scopes))
    }
    case 'any': {
      const parts = condition.of.map(compile)
      return (world, scopes) => parts.some((part) => part(world, scopes))
    }
    case 'not': {
      const part = compile(condition.of)
      return (world, scopes) => !part(world, scopes)
    }
    case 'after': {
      const part = compile(condition.of)
      return (world, scopes) => part({ ...world, old: scopes[0] as MemoryRecord }, [nextOf(world), ...scopes.slice(1)])
    }
    case 'unchanged':
      return (world, [record]) => unchangedIn(condition.field, record, nextOf(world))
    case 'isSet': {
      const operand = read(condition.operand)
      return (world, scopes) => !isMissing(operand(world, scopes))
    }
    case 'signedIn':
      return ({ caller }) => caller.signedIn
    case 'role':
      return ({ caller }) => condition.anyOf.some((role) => caller.roles.includes(role))
    case 'channel':
      return ({ caller }) => caller.channel !== undefined && condition.anyOf.includes(caller.channel)
    case 'compare':
      return compileCompare(condition.how, read(condition.left), read(condition.right))
    case 'some':
      return compileSome(condition)
    case 'may':
      throw new TypeError('A may condition has to be expanded before it is evaluated.')
  }
}

function compileSome({ table, from, to, where }: Condition & { kind: 'some' }): Test {
  const inner = compile(where)
  const start = read(from)
  return (world, scopes) => {
    const value = start(world, scopes)
    if (isMissing(value)) return false
    const outer = scopes.slice(0, to.level)
    return world.lookup(table, to.field, value).some((record) => {
      const deeper = [...outer]
      deeper[to.level] = record
      return inner(world, deeper)
    })
  }
}

function compileCompare(how: Comparison, left: Read, right: Read): Test {
  const compare = COMPARE[how]
  return (world, scopes) => {
    const from = left(world, scopes)
    if (isMissing(from)) return false
    const to = right(world, scopes)
    return !isMissing(to) && compare(from as Value, to as Value)
  }
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

function read(operand: Operand): Read {
  switch (operand.kind) {
    case 'field': {
      const { level, name } = operand
      return (_, scopes) => scopes[level]?.[name]
    }
    case 'old':
      return ({ old }) => old?.[operand.name]
    case 'caller':
      if (operand.name === 'roles') return ({ caller }) => (caller.signedIn ? caller.roles : null)
      return ({ caller }) => (Object.hasOwn(caller.attributes, operand.name) ? caller.attributes[operand.name] : null)
    case 'given':
      throw new TypeError('A value that comes with a request is known to databases only.')
    case 'now':
      return ({ now }) => new Date(now.getTime() + operand.plusSeconds * 1000)
    case 'value': {
      const value = fromPlain(operand.shape, operand.value)
      return () => value
    }
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
