import {
  type Condition,
  contains,
  isComparable,
  type Operand,
  operandsOf,
  partsOf,
  print,
  RuleError,
  type Some,
} from '../condition/index.js'
import {
  accepts,
  assertWithin,
  childrenOf,
  describeType,
  fieldOf,
  isNever,
  fromPlain,
  LIMITS,
  misshapen,
  parentsOf,
  type PlainValue,
  type Shape,
  show,
  toPlain,
  UnknownNameError,
} from '../model/index.js'
import { assertAction, type Rulebook, rulesOf } from './rulebook.js'

/** The tables that records stand in, by level. */
export type Levels = readonly string[]

/** Which records a condition can ask about: one as it is, one that changes, or one as it will be. */
export type About = 'record' | 'change' | 'outcome'

/**
 * Checks a condition of somebody who asks, as those of the rules are checked: it is about records as they are.
 *
 * @throws {RuleError} where it does not fit the model
 * @throws {UnknownNameError} where it names what is not there
 */
export function checkAsked(rulebook: Rulebook, table: string, condition: Condition): void {
  checkCondition(rulebook, condition, [table])
  checkMoment(condition, 'record')
}

/** @throws {LimitError} where a condition of somebody who asks is too deep or too large */
export function assertSize(condition: Condition): void {
  let parts = 0
  const count = (part: Condition, depth: number): void => {
    assertWithin('levels of a condition', depth, LIMITS.conditionDepth)
    assertWithin('parts of a condition', (parts += 1), LIMITS.whereParts)
    for (const inner of partsOf(part)) count(inner, depth + 1)
  }
  count(condition, 0)
}

export function checkDepth(condition: Condition, depth = 0): void {
  if (depth > LIMITS.conditionDepth) {
    throw new RuleError(`a condition nests deeper than ${LIMITS.conditionDepth} levels.`)
  }
  for (const part of partsOf(condition)) checkDepth(part, depth + 1)
}

export function checkMoment(condition: Condition, about: About): void {
  const asksChange = contains(condition, ({ kind }) => kind === 'unchanged' || kind === 'after')
  if (asksChange && about === 'record') {
    throw new RuleError('changed() makes sense only in checks, in what has to hold after, and in denies on updates.')
  }
  const inside = (part: Condition) =>
    part.kind === 'some' && contains(part.where, ({ kind }) => kind === 'unchanged' || kind === 'after')
  if (contains(condition, inside)) {
    throw new RuleError('changed() asks about the record itself; write it beside some(), not inside.')
  }
  const asksOld = contains(condition, (part) => operandsOf(part).some(({ kind }) => kind === 'old'))
  if (asksOld && about !== 'outcome') {
    throw new RuleError('old makes sense only in checks and in what has to hold after an update.')
  }
}

export function checkCondition(rulebook: Rulebook, condition: Condition, levels: Levels): void {
  switch (condition.kind) {
    case 'all':
    case 'any':
      return condition.of.forEach((part) => checkCondition(rulebook, part, levels))
    case 'not':
    case 'after':
      return checkCondition(rulebook, condition.of, levels)
    case 'role':
      return condition.anyOf.forEach((role) => assertOneOf('role', role, rulebook.caller.roles))
    case 'channel':
      return condition.anyOf.forEach((name) => assertOneOf('channel', name, rulebook.caller.channels))
    case 'some':
      return checkSome(rulebook, condition, levels)
    case 'may':
      assertOneOf('table', condition.table, [tableAt(levels, condition.level)])
      return assertAction(rulesOf(rulebook, condition.table), condition.table, condition.action)
    case 'isSet':
      return void shapeOf(rulebook, condition.operand, levels)
    case 'unchanged':
      return void fieldOf(rulebook.model, tableAt(levels, 0), condition.field)
    case 'always':
    case 'never':
    case 'signedIn':
      return
    case 'compare': {
      const left = shapeOf(rulebook, condition.left, levels)
      const right = shapeOf(rulebook, condition.right, levels)
      const fits = isComparable(condition.how, left, right)
      if (fits) return
      if (isNever(left, 'compared')) {
        throw new RuleError(
          `${print(condition)} looks into a document; ask isSet() or isMissing(), or keep that in a field.`,
        )
      }
      throw new RuleError(`${print(condition)} compares ${describeType(left)} with ${describeType(right)}.`)
    }
  }
}

function assertOneOf(kind: string, given: string, known: readonly string[]): void {
  if (!known.includes(given)) throw new UnknownNameError(kind, given, known)
}

function checkSome(rulebook: Rulebook, some: Some, levels: Levels): void {
  const { from, to } = some
  // Each step is deeper than all around it, so that none can take another's place.
  if (!(Number.isInteger(to.level) && to.level >= levels.length && to.level <= 2 * LIMITS.conditionDepth)) {
    throw new RuleError(`the step to ${some.relation} is at level ${show(to.level)}, inside ${levels.length} others.`)
  }
  const relations = from.kind === 'field' ? relationsFrom(rulebook, tableAt(levels, from.level), some.one) : []
  const fits = relations.some(
    (each) =>
      from.kind === 'field' &&
      each.name === some.relation &&
      each.table === some.table &&
      each.from === from.name &&
      each.to === to.field,
  )
  if (!fits) throw new RuleError(`there is no reference called ${some.relation} that leads to ${some.table}.`)
  const inner = levels.slice(0, to.level)
  inner[to.level] = some.table
  checkCondition(rulebook, some.where, inner)
  checkChain(rulebook, some, inner)
}

/** A chain goes from record to record of one table, and asks of each what stands in it alone: no database could do more. */
function checkChain(rulebook: Rulebook, { table, to, one, where, chain, through }: Some, inner: Levels): void {
  if (chain === undefined) {
    if (through) throw new RuleError('what a chain goes through is said, and no chain.')
    return
  }
  const { references } = fieldOf(rulebook.model, table, chain)
  if (!one || references !== table) {
    throw new RuleError(
      `${table}.${chain} leads to ${references ?? 'no record'}, and a chain from record to record of one table.`,
    )
  }
  if (through) checkCondition(rulebook, through, inner)
  const outside = (part: Condition) =>
    operandsOf(part).some((each) => each.kind === 'old' || (each.kind === 'field' && each.level < to.level))
  if ([where, ...(through ? [through] : [])].some((each) => contains(each, outside))) {
    throw new RuleError(
      'what a chain asks of its records is about them and the caller, and not about the record it starts from.',
    )
  }
}

const relationsFrom = ({ model }: Rulebook, table: string, one: boolean) =>
  one ? parentsOf(model, table) : childrenOf(model, table)

function tableAt(levels: Levels, level: number): string {
  const table = levels[level]
  if (table === undefined) throw new RuleError(`there is no record at level ${level}.`)
  return table
}

export function shapeOf(rulebook: Rulebook, operand: Operand, levels: Levels): Shape {
  switch (operand.kind) {
    case 'field':
      return fieldOf(rulebook.model, tableAt(levels, operand.level), operand.name)
    case 'old':
      return fieldOf(rulebook.model, tableAt(levels, 0), operand.name)
    case 'now':
      if (!(Math.abs(operand.plusSeconds) <= LIMITS.momentSeconds)) {
        throw new RuleError(`now cannot be moved by ${show(operand.plusSeconds)} seconds.`)
      }
      return { type: 'timestamp' }
    case 'given':
      return operand.shape
    case 'value':
      assertShape(operand.shape)
      assertPlain(operand.shape, operand.value)
      return operand.shape
    case 'caller': {
      if (operand.name === 'roles') return { type: 'list', item: 'text' }
      const { attributes } = rulebook.caller
      const shape = Object.hasOwn(attributes, operand.name) ? attributes[operand.name] : undefined
      if (shape) return shape
      throw new RuleError(`callers have no attribute ${operand.name}; known: ${Object.keys(attributes).join(', ')}.`)
    }
  }
}

/** A shape may come from a file, and SQL is made from it. */
function assertShape(shape: Shape): void {
  const problem = misshapen(shape)
  if (problem !== undefined) throw new RuleError(`a value ${problem}: ${show(shape)}.`)
}

export function assertPlain(field: Shape, plain: PlainValue): void {
  const value = fromPlain(field, plain)
  // Written in one way only: equal values are equal texts.
  if (accepts(field, value) && show(toPlain(field, value)) === show(plain)) return
  throw new RuleError(`${show(plain)} is not ${describeType(field)}.`)
}
