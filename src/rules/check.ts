import {
  type Condition,
  contains,
  isAboutCaller,
  type Operand,
  operandsOf,
  partsOf,
  print,
  RuleError,
} from '../condition/index.js'
import {
  accepts,
  childrenOf,
  describeType,
  fieldOf,
  fromPlain,
  parentsOf,
  PachterError,
  type PlainValue,
  type Shape,
  tableOf,
  UnknownNameError,
} from '../model/index.js'
import { checkCallerShape } from './caller.js'
import { assertNoCircle } from './permission.js'
import { ACTIONS, assertAction, changesRecord, type Rulebook, rulesOf, type TableRules, type Who } from './rulebook.js'

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
  checkCallerRecord(rulebook)
  const followed = new Set<string>()
  for (const [table, rules] of Object.entries(rulebook.tables)) {
    tableOf(rulebook.model, table)
    checkActions(table, rules)
    const conditions = conditionsOf(rules)
    for (const { place, condition, about } of conditions) {
      at(`${table} ${place}`, () => {
        checkDepth(condition)
        checkCondition(rulebook, condition, [table])
        checkMoment(condition, about)
      })
    }
    for (const [place, who] of everyWho(rules)) at(`${table} ${place}`, () => checkWho(rulebook, rules, who))
    for (const [action, grants] of Object.entries(rules.grants)) {
      for (const field of grants.flatMap((grant) => grant.fields ?? [])) {
        at(`${table} grants ${action}`, () => fieldOf(rulebook.model, table, field))
      }
    }
    checkStamps(rulebook, table, rules)
    checkFieldChecks(rulebook, table, rules)
    // Only a may leads on to other rules, and so perhaps in a circle.
    if (!conditions.some(({ condition }) => contains(condition, ({ kind }) => kind === 'may'))) continue
    for (const action of [...ACTIONS, ...rules.actions]) {
      at(`${table} ${action}`, () => assertNoCircle(rulebook, table, action, followed))
    }
  }
}

function checkCallerRecord({ caller, model }: Rulebook): void {
  if (!caller.record) return
  const { table, roles } = caller.record
  at('the caller record', () => {
    const { key } = tableOf(model, table)
    const field = fieldOf(model, table, roles)
    if (field.type !== 'list') throw new RuleError(`${table}.${roles} is ${describeType(field)}, not a list of roles.`)
    const id = fieldOf(model, table, key[0] as string)
    if (key.length !== 1 || kindOf(id) !== kindOf(caller.attributes['id'] as Shape)) {
      throw new RuleError(`the key of ${table} is not what a caller's id is.`)
    }
  })
}

function checkActions(table: string, rules: TableRules): void {
  for (const name of [...rules.actions, ...Object.keys(rules.ties), ...Object.keys(rules.denies)]) {
    if (name in Object.prototype) throw new RuleError(`${table} uses the name ${name}, which every object has.`)
  }
  for (const name of rules.actions) {
    if (!(ACTIONS as readonly string[]).includes(name)) continue
    throw new RuleError(`${table} has ${name} as an action of its own; every table has that.`)
  }
  const named = [...Object.keys(rules.grants), ...Object.values(rules.denies).flatMap(({ on }) => on)]
  for (const action of named) at(table, () => assertAction(rules, table, action))
  for (const action of Object.keys(rules.stamps)) {
    if (action === 'create' || changesRecord(rules, action)) continue
    throw new UnknownNameError('action with stamps', action, ['create', 'update', ...rules.actions], table)
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

/** Which records a condition can ask about: one as it is, one that changes, or one as it will be. */
type About = 'record' | 'change' | 'outcome'

interface PlacedCondition {
  readonly place: string
  readonly condition: Condition
  readonly about: About
}

function conditionsOf(rules: TableRules): readonly PlacedCondition[] {
  const { ties, grants, denies, checks } = rules
  const placed = (place: string, condition: Condition | undefined, about: About): readonly PlacedCondition[] =>
    condition ? [{ place, condition, about }] : []
  return [
    ...Object.entries(ties).flatMap(([name, tie]) => placed(`tie ${name}`, tie, 'record')),
    ...Object.entries(grants).flatMap(([action, all]) =>
      all.flatMap(({ when, after }) => [
        ...placed(`grants ${action}`, when, 'record'),
        ...placed(`grants ${action}`, after, 'outcome'),
      ]),
    ),
    ...Object.entries(denies).flatMap(([name, { when, on }]) =>
      placed(`deny ${name}`, when, on.every((action) => changesRecord(rules, action)) ? 'change' : 'record'),
    ),
    ...Object.entries(checks.records).flatMap(([name, { that }]) => placed(`check ${name}`, that, 'outcome')),
  ]
}

/** Deeper than people write; databases have limits of their own beyond. */
const DEEPEST = 64

function checkDepth(condition: Condition, depth = 0): void {
  if (depth > DEEPEST) throw new RuleError(`a condition nests deeper than ${DEEPEST} levels.`)
  for (const part of partsOf(condition)) checkDepth(part, depth + 1)
}

function checkMoment(condition: Condition, about: About): void {
  const asksChange = contains(condition, ({ kind }) => kind === 'unchanged' || kind === 'after')
  if (asksChange && about === 'record') {
    throw new RuleError('changed() makes sense only in checks, in what has to hold after, and in denies on updates.')
  }
  const asksOld = contains(condition, (part) => operandsOf(part).some(({ kind }) => kind === 'old'))
  if (asksOld && about !== 'outcome') {
    throw new RuleError('old makes sense only in checks and in what has to hold after an update.')
  }
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
  if (!isAboutCaller(who)) {
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
      throw new RuleError(`${print(condition)} compares ${describeType(left)} with ${describeType(right)}.`)
    }
  }
}

function assertOneOf(kind: string, given: string, known: readonly string[]): void {
  if (!known.includes(given)) throw new UnknownNameError(kind, given, known)
}

function isComparable(how: string, left: Shape, right: Shape): boolean {
  switch (how) {
    case 'in':
      return left.type !== 'list' && right.type === 'list' && kindOf(left) === (right.item ?? 'text')
    case 'overlaps':
    case 'includesAll':
      return left.type === 'list' && right.type === 'list' && (left.item ?? 'text') === (right.item ?? 'text')
    case 'startsWith':
      return kindOf(left) === 'text' && kindOf(right) === 'text'
    case 'is':
      return left.type !== 'list' && kindOf(left) === kindOf(right)
    case 'below':
    case 'atMost':
    case 'above':
    case 'atLeast':
      return ORDERED.includes(left.type) && kindOf(left) === kindOf(right)
    default:
      return false
  }
}

const ORDERED: readonly string[] = ['integer', 'bigInteger', 'decimal', 'timestamp']

function checkSome(rulebook: Rulebook, some: Condition & { kind: 'some' }, levels: Levels): void {
  const { from, to } = some
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
}

const relationsFrom = ({ model }: Rulebook, table: string, one: boolean) =>
  one ? parentsOf(model, table) : childrenOf(model, table)

function tableAt(levels: Levels, level: number): string {
  const table = levels[level]
  if (table === undefined) throw new RuleError(`there is no record at level ${level}.`)
  return table
}

/** Choices compare as the text they are; decimals only with those of as many digits. */
const kindOf = ({ type, scale }: Shape): string =>
  type === 'choice' ? 'text' : type === 'decimal' ? `decimal ${scale}` : type

function shapeOf(rulebook: Rulebook, operand: Operand, levels: Levels): Shape {
  switch (operand.kind) {
    case 'field':
      return fieldOf(rulebook.model, tableAt(levels, operand.level), operand.name)
    case 'old':
      return fieldOf(rulebook.model, tableAt(levels, 0), operand.name)
    case 'now':
      return { type: 'timestamp' }
    case 'given':
      throw new RuleError('a value that comes with a request cannot stand in a rule.')
    case 'value':
      assertPlain(operand.shape, operand.value)
      return operand.shape
    case 'caller': {
      if (operand.name === 'roles') return { type: 'list', item: 'text' }
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

function checkFieldChecks({ model }: Rulebook, table: string, { checks }: TableRules): void {
  for (const [name, { length, range, pattern }] of Object.entries(checks.fields)) {
    at(`${table} check ${name}`, () => {
      const field = fieldOf(model, table, name)
      if (length && kindOf(field) !== 'text' && field.type !== 'list') throw new RuleError(`${name} has no length.`)
      if (pattern !== undefined && kindOf(field) !== 'text') throw new RuleError(`${name} is no text to match.`)
      if (range && !ORDERED.includes(field.type)) throw new RuleError(`${name} has no order, so it has no range.`)
      for (const end of range ?? []) assertPlain(field, end)
      if (pattern !== undefined) compilePattern(pattern)
    })
  }
  for (const [name, { fields }] of Object.entries(checks.records)) {
    for (const field of fields) at(`${table} check ${name}`, () => fieldOf(model, table, field))
  }
}

function assertPlain(field: Shape, plain: PlainValue): void {
  if (!accepts(field, fromPlain(field, plain))) {
    throw new RuleError(`${JSON.stringify(plain)} is not ${describeType(field)}.`)
  }
}

function compilePattern(pattern: string): void {
  try {
    new RegExp(pattern, 'u')
  } catch (error) {
    throw new RuleError(`the pattern ${pattern} is none: ${(error as Error).message}`)
  }
}
