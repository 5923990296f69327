import {
  allOf,
  always,
  anyOf,
  type Condition,
  contains,
  never,
  normalise,
  notOf,
  type Operand,
  operandsOf,
  rewrite,
  RuleError,
  sameData,
  shift,
  sizeOf,
  unchanged,
} from '../condition/index.js'
import { LIMITS, tableOf } from '../model/index.js'
import { type Caller, rolesThatServe } from './caller.js'
import { inForce, isThere } from './in-force.js'
import { kept } from './kept.js'
import {
  type Action,
  changesRecord,
  covers,
  deniesFor,
  type Grant,
  grantsFor,
  type Rulebook,
  type RulesInForce,
  rulesOf,
  stampsFor,
  type TableRules,
  type Who,
} from './rulebook.js'

/**
 * When a caller may do this to a record of the table, as one condition: some grant holds, no deny does, and
 * for a write the record can be seen (law 3). For `create`, the record is the new one; for an update, what
 * asks about the change is answered as if nothing changed.
 *
 * @throws {RuleError} where rules of tables wait for one another in a circle
 */
export function permission(rulebook: Rulebook, table: string, action: Action): Condition {
  return permissionAfter(rulebook, table, action, [])
}

function permissionAfter(rulebook: Rulebook, table: string, action: Action, path: readonly string[]): Condition {
  const name = `${table} ${action}`
  return kept(rulebook, 'permission', name, () => {
    const step = path.length === 0 ? name : stepOf({ table, action })
    assertNew(step, path)
    const made = expand(rulebook, withoutChange(permitted(rulebook, table, action)), [...path, step])
    assertSize(name, made)
    return made
  })
}

function assertSize(name: string, condition: Condition): void {
  if (sizeOf(condition, LIMITS.ruleParts) <= LIMITS.ruleParts) return
  throw new RuleError(
    `the rules for ${name}, with those of other tables put in place of each may(), have more than ${LIMITS.ruleParts} parts.`,
  )
}

/** Whether no grant can let a field be changed by this action: keys, stamps, what is computed, and what a check forbids. */
export function isFixed(rulebook: Rulebook, table: string, action: Action, field: string): boolean {
  const rules = rulesOf(rulebook, table)
  const { fields, key } = tableOf(rulebook.model, table)
  return (
    key.includes(field) ||
    fields[field]?.filled === 'computed' ||
    Object.hasOwn(stampsFor(rules, action), field) ||
    rules.checks.fields[field]?.onUpdate === 'forbidden'
  )
}

/** Whether a new record's value of a field is never the caller's to give: stamps, and what is computed. */
export function isNeverGiven(rulebook: Rulebook, table: string, field: string): boolean {
  const { fields } = tableOf(rulebook.model, table)
  return fields[field]?.filled === 'computed' || Object.hasOwn(stampsFor(rulesOf(rulebook, table), 'create'), field)
}

/** The checks on a table's records as a whole, with their names. */
export function recordChecks({ checks }: RulesInForce): readonly (TableRules['checks']['records'][string] & {
  readonly name: string
})[] {
  return Object.entries(checks.records).map(([name, check]) => ({ ...check, name }))
}

/** When a caller sees this field of a record that the caller sees: keys always, others by the grants that cover them. */
export function fieldSight(
  rulebook: Rulebook,
  table: string,
  field: string,
  action: 'list' | 'get' = 'get',
): Condition {
  return expand(rulebook, seesField(rulebook, table, field, action), [`${table} ${action}`])
}

export function seesField(rulebook: Rulebook, table: string, field: string, action: 'list' | 'get' = 'get'): Condition {
  if (tableOf(rulebook.model, table).key.includes(field)) return always
  const rules = inForce(rulebook, table)
  return anyGrant(
    rules,
    grantsFor(rules, action).filter((grant) => covers(grant, field)),
  )
}

/**
 * That a change leaves a field as it is, as far as its caller may know: what is sent for a hidden field counts as changed, or
 * it could be guessed.
 */
export const leftAsIs = (rulebook: Rulebook, table: string, field: string): Condition =>
  allOf(unchanged(field), seesField(rulebook, table, field))

export function permitted(rulebook: Rulebook, table: string, action: Action): Condition {
  const rules = inForce(rulebook, table)
  const granted = anyGrant(rules, grantsFor(rules, action))
  const open = deniesFor(rules, action).map(({ when, except }) =>
    notOf(allOf(when, notOf(anyOf(...except.map((who) => whoCondition(rules, who)))))),
  )
  const needsSight = action === 'delete' || changesRecord(rules, action)
  return allOf(granted, ...open, ...(needsSight ? [permitted(rulebook, table, 'get')] : []))
}

/** That one of these grants holds: what bars records, and so is part of them all, is asked once. */
function anyGrant(rules: RulesInForce, grants: readonly Grant[]): Condition {
  const each = grants.map((grant) => holds(rules, grant))
  if (!rules.fence && !rules.gone) return anyOf(...each)
  const parts = each.map((condition) => partsOfAll(normalise(condition)))
  const [first = [], ...others] = parts
  const isIn = (part: Condition, all: readonly Condition[]) => all.some((other) => sameData(other, part))
  const common = first.filter((part) => others.every((all) => isIn(part, all)))
  return allOf(...common, anyOf(...parts.map((all) => allOf(...all.filter((part) => !isIn(part, common))))))
}

const partsOfAll = (condition: Condition): readonly Condition[] =>
  condition.kind === 'all' ? condition.of : [condition]

/** When a grant holds, on the record as it is. */
export function holds(rules: RulesInForce, { to, when }: Grant): Condition {
  return allOf(anyOf(...to.map((who) => whoCondition(rules, who))), ...(when ? [when] : []))
}

/** The condition that a tie name stands for, or the condition on the caller itself. */
export function whoCondition(rules: RulesInForce, who: Who): Condition {
  // The rulebook was checked: the tie is there. Were it not, nobody has it.
  return typeof who === 'string' ? (rules.ties[who] ?? anyOf()) : who
}

/** What a condition about a change asks where nothing is changed. */
export function withoutChange(condition: Condition): Condition {
  if (condition.kind === 'unchanged') return always
  if (condition.kind === 'after') return withoutChange(condition.of)
  return rewrite(condition, { part: withoutChange, operand: asNow })
}

const asNow = (operand: Operand): Operand =>
  operand.kind === 'old' ? { kind: 'field', level: 0, name: operand.name } : operand

/** Puts the rules of other tables in place of every `may`, and in place of a role all ways to have it. */
export function expand(rulebook: Rulebook, condition: Condition, path: readonly string[] = []): Condition {
  return normalise(condition, (leaf) => {
    if (leaf.kind === 'role') return expandRole(rulebook, leaf.anyOf)
    if (leaf.kind !== 'may') return leaf
    return shift(permissionAfter(rulebook, leaf.table, leaf.action, path), leaf.level)
  })
}

const stepOf = ({ table, action }: { readonly table: string; readonly action: Action }): string =>
  `${table} ${action === 'read' ? 'get' : action}`

function assertNew(step: string, path: readonly string[]): void {
  if (!path.includes(step)) return
  throw new RuleError(`the rules wait for one another in a circle: ${[...path, step].join(', then ')}.`)
}

/**
 * Follows every `may` from the permission for an action, and counts the parts it would have with the rules of other
 * tables put in place of each, without working anything out.
 *
 * @param counted what was counted before, and need not be again
 * @throws {RuleError} where one leads back to where it came from, or there are too many parts
 */
export function assertBounded(rulebook: Rulebook, table: string, action: Action, counted: Map<string, number>): void {
  const parts = countParts(rulebook, table, action, counted, [])
  // What is denied or asked afterwards takes a part more for each leaf: those that could be too many are worked out.
  if (parts * 3 > LIMITS.ruleParts) permission(rulebook, table, action)
}

function countParts(
  rulebook: Rulebook,
  table: string,
  action: Action,
  counted: Map<string, number>,
  path: readonly string[],
): number {
  const step = path.length === 0 ? `${table} ${action}` : stepOf({ table, action })
  assertNew(step, path)
  const known = counted.get(step)
  if (known !== undefined) return known
  let parts = 0
  const count = (part: Condition): boolean => {
    if (part.kind === 'may') parts += countParts(rulebook, part.table, part.action, counted, [...path, step])
    else parts += part.kind === 'role' ? sizeOf(expandRole(rulebook, part.anyOf), LIMITS.ruleParts) : 1
    return false
  }
  contains(permitted(rulebook, table, action), count)
  counted.set(step, parts)
  return parts
}

/** A role is had by the caller's word, or by the caller's own record as it stands, or by a role that implies it. */
function expandRole(rulebook: Rulebook, wanted: readonly string[]): Condition {
  const { caller, model } = rulebook
  const serving = rolesThatServe(caller, wanted)
  const known: Condition = { kind: 'role', anyOf: serving }
  if (!caller.record) return known
  const { table, roles } = caller.record
  return anyOf(known, {
    kind: 'some',
    relation: 'record',
    table,
    from: { kind: 'caller', name: 'id' },
    to: { level: 1, field: tableOf(model, table).key[0] },
    one: true,
    where: allOf(shift(isThere(rulebook, table), 1), {
      kind: 'compare',
      how: 'overlaps',
      left: { kind: 'field', level: 1, name: roles },
      right: { kind: 'value', shape: { type: 'list', item: 'text' }, value: serving },
    }),
  })
}

/** What remains of a condition for this caller: roles and missing attributes are decided, the rest is left. */
export function specialise(condition: Condition, caller: Caller): Condition {
  if (caller.trusted !== undefined) return always
  return normalise(condition, (leaf) => {
    const answer = answerOf(leaf, caller)
    return answer === undefined ? leaf : answer ? always : never
  })
}

/**
 * Whether a condition comes out in one way for this caller, whatever the record: as {@link specialise} would have it,
 * without writing it out.
 *
 * @param condition expanded
 * @returns nothing where the record has a say
 */
export function decidedFor(condition: Condition, caller: Caller): boolean | undefined {
  const { kind } = condition
  if (kind === 'always' || kind === 'never') return kind === 'always'
  if (kind === 'not') {
    const decided = decidedFor(condition.of, caller)
    return decided === undefined ? undefined : !decided
  }
  if (kind === 'after') return decidedFor(condition.of, caller)
  if (kind === 'some') {
    const { where, through = always } = condition
    if ([where, through].some((part) => decidedFor(part, caller) === false)) return false
  }
  if (kind !== 'all' && kind !== 'any') return answerOf(condition, caller)
  const decisive = kind === 'any'
  let isOpen = false
  for (const part of condition.of) {
    const decided = decidedFor(part, caller)
    if (decided === decisive) return decisive
    isOpen ||= decided === undefined
  }
  return isOpen ? undefined : !decisive
}

/** What the caller alone answers to a condition, not looking at its parts; nothing where the record has a say. */
function answerOf(leaf: Condition, caller: Caller): boolean | undefined {
  if (leaf.kind === 'signedIn') return caller.signedIn
  if (leaf.kind === 'role') return leaf.anyOf.some((role) => caller.roles.includes(role))
  if (leaf.kind === 'channel') return leaf.anyOf.some((name) => name === caller.channel)
  return operandsOf(leaf).some((operand) => isMissingFor(caller, operand)) ? false : undefined
}

function isMissingFor({ attributes, signedIn }: Caller, operand: Operand): boolean {
  if (operand.kind !== 'caller') return false
  return operand.name === 'roles' ? !signedIn : !Object.hasOwn(attributes, operand.name)
}
