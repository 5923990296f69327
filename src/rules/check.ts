import {
  asksCaller,
  type Condition,
  contains,
  isAboutCaller,
  operandsOf,
  print,
  RuleError,
} from '../condition/index.js'
import {
  comparesAs,
  describeType,
  fieldOf,
  fromPlain,
  isName,
  isOrdered,
  rankOf,
  type Shape,
  show,
  tableOf,
  uniquesOf,
  UnknownNameError,
  type Value,
} from '../model/index.js'
import { type About, assertPlain, checkCondition, checkDepth, checkMoment, shapeOf } from './check-condition.js'
import { at } from './at.js'
import { checkFilled } from './check-filled.js'
import { compilePattern } from './pattern.js'
import { checkCallerShape } from './caller.js'
import { inForce } from './in-force.js'
import { assertBounded } from './permission.js'
import { ACTIONS, assertAction, changesRecord, type Rulebook, type TableRules, type Who } from './rulebook.js'

/**
 * Checks a rulebook against its own model: every name must exist, every type must fit, every step must
 * follow a reference.
 *
 * @throws {RuleError} with the place of the first thing wrong
 */
export function checkRulebook(rulebook: Rulebook): void {
  checkCallerShape(rulebook.caller)
  checkCallerRecord(rulebook)
  const counted = new Map<string, number>()
  for (const [table, rules] of Object.entries(rulebook.tables)) {
    tableOf(rulebook.model, table)
    checkActions(table, rules)
    const conditions = conditionsOf(rules)
    for (const { place, condition, about } of conditions) {
      at(`${table} ${place}`, () => {
        checkDepth(condition)
        if (contains(condition, (part) => operandsOf(part).some(({ kind }) => kind === 'given'))) {
          throw new RuleError('a value that comes with a request cannot stand in a rule.')
        }
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
    checkStamps(rulebook, table, rules.stamps)
    checkBars(rulebook, table, rules)
    checkFieldChecks(rulebook, table, rules)
    // Only a may leads on to other rules, and so perhaps in a circle.
    if (!conditions.some(({ condition }) => contains(condition, ({ kind }) => kind === 'may'))) continue
    for (const action of [...ACTIONS, ...rules.actions]) {
      at(`${table} ${action}`, () => {
        assertBounded(rulebook, table, action, counted)
      })
    }
  }
  for (const table of Object.keys(rulebook.tables)) checkFilled(rulebook, table)
}

function checkCallerRecord({ caller, model }: Rulebook): void {
  if (!caller.record) return
  const { table, roles } = caller.record
  at('the caller record', () => {
    const { key } = tableOf(model, table)
    const field = fieldOf(model, table, roles)
    if (field.type !== 'list') throw new RuleError(`${table}.${roles} is ${describeType(field)}, not a list of roles.`)
    const id = fieldOf(model, table, key[0])
    if (key.length !== 1 || comparesAs(id) !== comparesAs(caller.attributes['id'] as Shape)) {
      throw new RuleError(`the key of ${table} is not what a caller's id is.`)
    }
  })
}

function checkActions(table: string, rules: TableRules): void {
  const { actions, ties, denies, checks } = rules
  for (const name of [ties, denies, checks.records].flatMap(Object.keys).concat(actions)) {
    if (isName(name)) continue
    throw new RuleError(
      `${table} cannot use ${show(name)} as a name: a name is a letter followed by at most 62 letters, digits or underscores, and no word every object has.`,
    )
  }
  for (const name of rules.actions) {
    if (!(ACTIONS as readonly string[]).includes(name)) continue
    throw new RuleError(`${table} has ${name} as an action of its own; every table has that.`)
  }
  for (const [name, { on }] of Object.entries(denies))
    if (on.length === 0) throw new RuleError(`the deny ${name} of ${table} is on no action; name what it forbids.`)
  const named = [...Object.keys(rules.grants), ...Object.values(rules.denies).flatMap(({ on }) => on)]
  for (const action of named) at(table, () => assertAction(rules, table, action))
  for (const action of Object.keys(rules.stamps)) {
    if (action === 'create' || changesRecord(rules, action)) continue
    throw new UnknownNameError('action with stamps', action, ['create', 'update', ...rules.actions], table)
  }
}

interface PlacedCondition {
  readonly place: string
  readonly condition: Condition
  readonly about: About
}

function conditionsOf(rules: TableRules): readonly PlacedCondition[] {
  const { ties, grants, denies, checks, fence, gone } = rules
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
    ...placed('fence', fence, 'record'),
    ...placed('gone', gone?.when, 'record'),
    ...Object.entries(checks.records).flatMap(([name, { that }]) => placed(`check ${name}`, that, 'outcome')),
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
    throw new RuleError(`there is no tie ${show(who)}; known: ${Object.keys(rules.ties).join(', ')}.`)
  }
  if (!isAboutCaller(who)) {
    throw new RuleError(`${print(who)} is not a condition on the caller alone; make it a tie and name that.`)
  }
  checkCondition(rulebook, who, [])
}

/** What bars records: a fence that asks for no permission, since that asks for the fence, and what is gone by itself. */
function checkBars(rulebook: Rulebook, table: string, { fence, gone, grants, conflicts }: TableRules): void {
  const asks = (condition: Condition | undefined, ...kinds: Condition['kind'][]) =>
    condition !== undefined && contains(condition, ({ kind }) => kinds.includes(kind))
  at(`${table} fence`, () => {
    if (asks(fence, 'may')) throw new RuleError('a fence cannot ask what somebody may do; say it in full.')
    inForce(rulebook, table)
  })
  at(`${table} gone`, () => {
    if (!gone) {
      if (!Object.values(grants).some((each) => each.some((grant) => grant.gone))) return
      throw new RuleError('a grant names records that are gone, and the table has none: say when with gone().')
    }
    if (asks(gone.when, 'may', 'some') || asksCaller(gone.when) || asksNow(gone.when)) {
      throw new RuleError('whether a record is gone, its own fields say: no caller, no moment and no other record.')
    }
    if (!gone.onDelete) return
    const set = Object.keys(gone.onDelete)
    const isSet = contains(gone.when, (part) =>
      operandsOf(part).some((each) => each.kind === 'field' && set.includes(each.name)),
    )
    if (!isSet) throw new RuleError('what a delete sets does not make the record gone.')
    const uniques = uniquesOf(rulebook.model, table).flat()
    // The moment of a delete is no other record's.
    const taken = set.find((name) => uniques.includes(name) && gone.onDelete?.[name]?.kind !== 'now')
    if (taken !== undefined && conflicts !== 'told') {
      throw new RuleError(
        `a delete sets ${taken}, which is unique, and so tells whether a hidden record has the same; say conflicts('told') where it may.`,
      )
    }
    checkStamps(rulebook, table, { delete: gone.onDelete })
  })
}

const asksNow = (condition: Condition): boolean =>
  contains(condition, (part) => operandsOf(part).some(({ kind }) => kind === 'now'))

function checkStamps(rulebook: Rulebook, table: string, stamps: TableRules['stamps']): void {
  for (const [when, values] of Object.entries(stamps)) {
    for (const [name, operand] of Object.entries(values)) {
      at(`${table} stamps ${when}`, () => {
        const field = fieldOf(rulebook.model, table, name)
        const shape = shapeOf(rulebook, operand, [])
        if (field.filled === 'computed')
          throw new RuleError(`${name} is computed by the database and cannot be stamped.`)
        if (when !== 'create' && tableOf(rulebook.model, table).key.includes(name))
          throw new RuleError(`${name} is part of the key, which never changes.`)
        if (comparesAs(field) === comparesAs(shape) && (field.type !== 'choice' || isAmong(field, shape))) return
        throw new RuleError(`${name} is ${describeType(field)} and cannot be stamped with ${describeType(shape)}.`)
      })
    }
  }
}

/** Whether whatever is of a shape is one of a field's choices. */
const isAmong = ({ choices = [] }: Shape, { choices: given }: Shape): boolean =>
  given?.every((each) => choices.includes(each)) === true

function checkFieldChecks({ model }: Rulebook, table: string, { checks }: TableRules): void {
  for (const [name, { length, range, pattern }] of Object.entries(checks.fields)) {
    at(`${table} check ${name}`, () => {
      const field = fieldOf(model, table, name)
      if (length && comparesAs(field) !== 'text' && field.type !== 'list') throw new RuleError(`${name} has no length.`)
      if (pattern !== undefined && comparesAs(field) !== 'text')
        throw new RuleError(`${name} is not a text, and only a text can match a pattern.`)
      if (range && !isOrdered(field)) throw new RuleError(`${name} has no order, so it has no range.`)
      for (const end of range ?? []) assertPlain(field, end)
      const [lowest, highest] = (range ?? []).map((end) => rankOf(fromPlain(field, end) as Value))
      if (lowest !== undefined && highest !== undefined && lowest > highest)
        throw new RuleError(`the range of ${name} begins above where it ends, so that nothing is in it.`)
      if (pattern !== undefined) compilePattern(pattern)
      if (!length) return
      if (!length.every((each) => Number.isInteger(each))) throw new RuleError('a length is not a number.')
      if (length[0] > length[1])
        throw new RuleError(`the length of ${name} begins above where it ends, so that none has it.`)
    })
  }
  for (const [name, { fields }] of Object.entries(checks.records)) {
    for (const field of fields) at(`${table} check ${name}`, () => fieldOf(model, table, field))
  }
}
