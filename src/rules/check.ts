import { type Condition, type Operand, print, RuleError } from '../condition/index.js'
import {
  accepts,
  childrenOf,
  describeType,
  fieldOf,
  fromPlain,
  parentsOf,
  PachterError,
  type Shape,
  tableOf,
} from '../model/index.js'
import { checkCallerShape } from './caller.js'
import { permission } from './permission.js'
import { type Action, ACTIONS, type Rulebook, type TableRules, type Who } from './rulebook.js'

/** The tables that records stand in, by level. */
type Levels = readonly string[]

/**
 * Checks a rulebook against its own model: every name must exist, every type must fit, every step must
 * follow a reference.
 *
 * @throws {RuleError} with the place of the first thing wrong
 */
export function checkRulebook(rulebook: Rulebook): void {
  checkCallerShape(rulebook.caller)
  for (const [table, rules] of Object.entries(rulebook.tables)) {
    tableOf(rulebook.model, table)
    for (const [place, condition] of conditionsOf(rules)) {
      at(`${table} ${place}`, () => checkCondition(rulebook, condition, [table]))
    }
    for (const [place, who] of everyWho(rules)) at(`${table} ${place}`, () => checkWho(rulebook, rules, who))
    for (const [action, grants] of Object.entries(rules.grants)) {
      if (!ACTIONS.includes(action as Action)) {
        throw new RuleError(`${table} grants the action ${JSON.stringify(action)}; there is ${ACTIONS.join(', ')}.`)
      }
      for (const field of grants.flatMap((grant) => grant.fields ?? [])) {
        at(`${table} grants ${action}`, () => fieldOf(rulebook.model, table, field))
      }
    }
    checkStamps(rulebook, table, rules)
    for (const action of ACTIONS) at(`${table} ${action}`, () => permission(rulebook, table, action))
  }
}

function at(place: string, check: () => void): void {
  try {
    check()
  } catch (error) {
    if (error instanceof PachterError)
      throw new RuleError(`In the rules of ${place}: ${error.message}`, { cause: error })
    throw error
  }
}

function conditionsOf({ ties, grants, denies }: TableRules): readonly [string, Condition][] {
  return [
    ...Object.entries(ties).map(([name, tie]): [string, Condition] => [`tie ${name}`, tie]),
    ...Object.entries(grants).flatMap(([action, all]) =>
      all.flatMap(({ when, after }): [string, Condition][] =>
        [when, after].flatMap((each) => (each ? [[`grants ${action}`, each]] : [])),
      ),
    ),
    ...Object.entries(denies).map(([name, { when }]): [string, Condition] => [`deny ${name}`, when]),
  ]
}

function everyWho({ grants, denies }: TableRules): readonly [string, Who][] {
  return [
    ...Object.entries(grants).flatMap(([action, all]) =>
      all.flatMap(({ to }) => to.map((who): [string, Who] => [`grants ${action}`, who])),
    ),
    ...Object.entries(denies).flatMap(([name, { except }]) =>
      except.map((who): [string, Who] => [`deny ${name}`, who]),
    ),
  ]
}

function checkWho(rulebook: Rulebook, rules: TableRules, who: Who): void {
  if (typeof who === 'string') {
    if (Object.hasOwn(rules.ties, who)) return
    throw new RuleError(`there is no tie ${JSON.stringify(who)}; there is ${Object.keys(rules.ties).join(', ')}.`)
  }
  if (!['always', 'signedIn', 'role'].includes(who.kind)) {
    throw new RuleError(`${print(who)} is no condition on the caller alone; make it a tie and name that.`)
  }
  checkCondition(rulebook, who, [])
}

function checkCondition(rulebook: Rulebook, condition: Condition, levels: Levels): void {
  switch (condition.kind) {
    case 'all':
    case 'any':
      return condition.of.forEach((part) => checkCondition(rulebook, part, levels))
    case 'not':
    case 'after':
      return checkCondition(rulebook, condition.of, levels)
    case 'role':
      for (const role of condition.anyOf) {
        if (!rulebook.caller.roles.includes(role)) {
          throw new RuleError(`there is no role ${JSON.stringify(role)}; there is ${rulebook.caller.roles.join(', ')}.`)
        }
      }
      return
    case 'some':
      return checkSome(rulebook, condition, levels)
    case 'may':
      if (condition.table === tableAt(levels, condition.level) && ACTIONS.includes(condition.action as Action)) return
      throw new RuleError(`may asks for the action ${condition.action}; there is ${ACTIONS.join(', ')}.`)
    case 'isSet':
      return void shapeOf(rulebook, condition.operand, levels)
    case 'unchanged':
      return void fieldOf(rulebook.model, tableAt(levels, 0), condition.field)
    case 'compare': {
      const left = shapeOf(rulebook, condition.left, levels)
      const right = shapeOf(rulebook, condition.right, levels)
      const fits =
        condition.how === 'in'
          ? right.type === 'list' && kindOf(left) === (right.item ?? 'text')
          : kindOf(left) === kindOf(right)
      if (fits) return
      throw new RuleError(`${print(condition)} compares ${describeType(left)} with ${describeType(right)}.`)
    }
  }
}

function checkSome(rulebook: Rulebook, some: Condition & { kind: 'some' }, levels: Levels): void {
  const start = tableAt(levels, some.from.level)
  const relations = some.one ? parentsOf(rulebook.model, start) : childrenOf(rulebook.model, start)
  const fits = relations.some(
    ({ name, table, from, to }) =>
      name === some.relation && table === some.table && from === some.from.field && to === some.to.field,
  )
  if (!fits) throw new RuleError(`there is no reference between ${start} and ${some.table} called ${some.relation}.`)
  const inner = levels.slice(0, some.to.level)
  inner[some.to.level] = some.table
  checkCondition(rulebook, some.where, inner)
}

function tableAt(levels: Levels, level: number): string {
  const table = levels[level]
  if (table === undefined) throw new RuleError(`there is no record at level ${level}.`)
  return table
}

/** Choices compare as the text they are. */
const kindOf = (shape: Shape): string => (shape.type === 'choice' ? 'text' : shape.type)

function shapeOf(rulebook: Rulebook, operand: Operand, levels: Levels): Shape {
  switch (operand.kind) {
    case 'field':
      return fieldOf(rulebook.model, tableAt(levels, operand.level), operand.name)
    case 'now':
      return { type: 'timestamp' }
    case 'value':
      if (accepts(operand.shape, fromPlain(operand.shape, operand.value))) return operand.shape
      throw new RuleError(`${JSON.stringify(operand.value)} is not ${describeType(operand.shape)}.`)
    case 'caller': {
      const { attributes } = rulebook.caller
      const shape = Object.hasOwn(attributes, operand.name) ? attributes[operand.name] : undefined
      if (shape) return shape
      throw new RuleError(`callers have no attribute ${operand.name}; there is ${Object.keys(attributes).join(', ')}.`)
    }
  }
}

function checkStamps(rulebook: Rulebook, table: string, { stamps }: TableRules): void {
  for (const [when, values] of Object.entries(stamps)) {
    for (const [name, operand] of Object.entries(values)) {
      at(`${table} stamps ${when}`, () => {
        const field = fieldOf(rulebook.model, table, name)
        const shape = shapeOf(rulebook, operand, [])
        if (kindOf(field) === kindOf(shape)) return
        throw new RuleError(`${name} is ${describeType(field)} and cannot be stamped with ${describeType(shape)}.`)
      })
    }
  }
}
