import type { Comparison, Condition, Operand } from '../condition/index.js'
import { fromPlain, isMissing, sameValue, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Lookup, MemoryRecord } from './data.js'

/** What a condition is evaluated against, besides the record itself. */
export interface World {
  readonly caller: Caller
  readonly now: Date
  readonly lookup: Lookup
  /** The record as it will be, for conditions on an update. */
  readonly next?: MemoryRecord
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
      return (world, scopes) => part(world, [nextOf(world), ...scopes.slice(1)])
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
  return (world, scopes) => {
    const value = scopes[from.level]?.[from.field]
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
  below: (left, right) => left < right,
  atMost: (left, right) => left <= right,
  above: (left, right) => left > right,
  atLeast: (left, right) => left >= right,
  startsWith: (left, right) => (left as string).startsWith(right as string),
  in: (left, right) => (right as readonly Value[]).some((item) => sameValue(left, item)),
}

function read(operand: Operand): Read {
  switch (operand.kind) {
    case 'field': {
      const { level, name } = operand
      return (_, scopes) => scopes[level]?.[name]
    }
    case 'caller':
      return ({ caller }) => (Object.hasOwn(caller.attributes, operand.name) ? caller.attributes[operand.name] : null)
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
