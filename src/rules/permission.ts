import {
  after,
  all,
  any,
  type Condition,
  contains,
  normalise,
  not,
  type Operand,
  operandsOf,
  RuleError,
  unchanged,
} from '../condition/index.js'
import type { Caller } from './caller.js'
import {
  type Action,
  covers,
  deniesFor,
  type Grant,
  grantsFor,
  type Rulebook,
  rulesOf,
  type TableRules,
  type Who,
} from './rulebook.js'

/**
 * When a caller may do this to a record of the table, as one condition: some grant holds, no deny does, and
 * for a write the record can be seen (law 3). For `create`, the record is the new one.
 *
 * @throws {RuleError} where rules of tables wait for one another in a circle
 */
export function permission(rulebook: Rulebook, table: string, action: Action): Condition {
  return expand(rulebook, permitted(rulebook, table, action), [`${table} ${action}`])
}

/**
 * When a caller may update these fields of a record, as one condition on the record before and after: besides
 * the {@link permission}, each field is left as it is and visible, or covered by a grant that holds before and
 * after (law 5).
 */
export function updatePermission(rulebook: Rulebook, table: string, fields: readonly string[]): Condition {
  const rules = rulesOf(rulebook, table)
  const stamped = Object.keys(rules.stamps.update)
  const key = rulebook.model.tables[table]?.key ?? []
  const grants = grantsFor(rules, 'update')
  const mayChange = (field: string): Condition => {
    const same = all(unchanged(field), seesField(rulebook, table, field))
    if (stamped.includes(field) || key.includes(field)) return same
    return any(same, ...grants.filter((grant) => covers(grant, field)).map((grant) => staysHeld(rules, grant)))
  }
  const whole = all(permitted(rulebook, table, 'update'), ...fields.map(mayChange))
  return expand(rulebook, whole, [`${table} update`])
}

/** When a caller may create a record in which these fields were given, as one condition on that record. */
export function createPermission(rulebook: Rulebook, table: string, fields: readonly string[]): Condition {
  const rules = rulesOf(rulebook, table)
  const grants = grantsFor(rules, 'create')
  const stamped = Object.keys(rules.stamps.create)
  const maySet = (field: string): Condition =>
    stamped.includes(field)
      ? any()
      : any(...grants.filter((each) => covers(each, field)).map((each) => holds(rules, each)))
  const whole = all(permitted(rulebook, table, 'create'), ...fields.map(maySet))
  return expand(rulebook, whole, [`${table} create`])
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

function seesField(rulebook: Rulebook, table: string, field: string, action: 'list' | 'get' = 'get'): Condition {
  if (rulebook.model.tables[table]?.key.includes(field)) return all()
  const rules = rulesOf(rulebook, table)
  return any(
    ...grantsFor(rules, action)
      .filter((grant) => covers(grant, field))
      .map((grant) => holds(rules, grant)),
  )
}

function permitted(rulebook: Rulebook, table: string, action: Action): Condition {
  const rules = rulesOf(rulebook, table)
  const granted = any(...grantsFor(rules, action).map((grant) => holds(rules, grant)))
  const open = deniesFor(rules, action).map(({ when, except }) =>
    not(all(when, not(any(...except.map((who) => whoCondition(rules, who)))))),
  )
  const sight = action === 'update' || action === 'delete' ? [permitted(rulebook, table, 'get')] : []
  return all(granted, ...open, ...sight)
}

/** When a grant holds, on the record as it is. */
export function holds(rules: TableRules, { to, when }: Grant): Condition {
  return all(any(...to.map((who) => whoCondition(rules, who))), ...(when ? [when] : []))
}

/** When a grant holds of a record before and after an update. */
function staysHeld(rules: TableRules, grant: Grant): Condition {
  return all(holds(rules, grant), after(grant.after ?? holds(rules, grant)))
}

/** The condition that a tie name stands for, or the condition on the caller itself. */
export function whoCondition(rules: TableRules, who: Who): Condition {
  // The rulebook was checked: the tie is there. Were it not, nobody has it.
  return typeof who === 'string' ? (rules.ties[who] ?? any()) : who
}

/** Puts the rules of other tables in place of every `may`. */
export function expand(rulebook: Rulebook, condition: Condition, path: readonly string[] = []): Condition {
  return normalise(condition, (leaf) => {
    if (leaf.kind !== 'may') return leaf
    const step = `${leaf.table} ${leaf.action === 'read' ? 'get' : leaf.action}`
    if (path.includes(step)) {
      throw new RuleError(`the rules wait for one another in a circle: ${[...path, step].join(', then ')}.`)
    }
    const inner = expand(rulebook, permitted(rulebook, leaf.table, leaf.action as Action), [...path, step])
    return shift(inner, leaf.level)
  })
}

/** Moves a condition about level 0 so that it is about a deeper level; its own steps go deeper with it. */
function shift(condition: Condition, by: number): Condition {
  const operand = (each: Operand): Operand => (each.kind === 'field' ? { ...each, level: each.level + by } : each)
  switch (condition.kind) {
    case 'all':
    case 'any':
      return { ...condition, of: condition.of.map((part) => shift(part, by)) }
    case 'not':
      return { ...condition, of: shift(condition.of, by) }
    case 'isSet':
      return { ...condition, operand: operand(condition.operand) }
    case 'compare':
      return { ...condition, left: operand(condition.left), right: operand(condition.right) }
    case 'some': {
      const { from, to, where } = condition
      return {
        ...condition,
        from: { ...from, level: from.level + by },
        to: { ...to, level: to.level + by },
        where: shift(where, by),
      }
    }
    default:
      return condition
  }
}

/** What remains of a condition for this caller: roles and missing attributes are decided, the rest is left. */
export function specialise(condition: Condition, caller: Caller): Condition {
  return normalise(condition, (leaf) => {
    if (leaf.kind === 'signedIn') return caller.signedIn ? all() : any()
    if (leaf.kind === 'role') return leaf.anyOf.some((role) => caller.roles.includes(role)) ? all() : any()
    const missing = operandsOf(leaf).some(
      (operand) => operand.kind === 'caller' && !Object.hasOwn(caller.attributes, operand.name),
    )
    return missing ? any() : leaf
  })
}

/** Whether a condition asks anything of the caller. */
export function asksCaller(condition: Condition): boolean {
  return contains(
    condition,
    (part) =>
      part.kind === 'signedIn' || part.kind === 'role' || operandsOf(part).some((operand) => operand.kind === 'caller'),
  )
}
