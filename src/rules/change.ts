import {
  after,
  allOf,
  always,
  anyOf,
  type Condition,
  contains,
  implies,
  normalise,
  notOf,
  type Operand,
  operandsOf,
  rewrite,
  unchanged,
} from '../condition/index.js'
import { tableOf } from '../model/index.js'
import { discretions, supposing } from './discretion.js'
import { inForce } from './in-force.js'
import { kept } from './kept.js'
import type { Caller } from './caller.js'
import {
  expand,
  fieldSight,
  holds,
  isFixed,
  leftAsIs,
  permission,
  permitted,
  recordChecks,
  specialise,
  withoutChange,
} from './permission.js'
import {
  type Action,
  changesRecord,
  covers,
  type Grant,
  grantsFor,
  type Rulebook,
  type RulesInForce,
  stampsFor,
} from './rulebook.js'

/**
 * When a caller may change a record so, as one condition on the record before and after: besides the
 * {@link permission}, each field given is left as it is and visible, or covered by a grant that holds before
 * and after (law 5), and the new values pass the checks.
 */
export function changePermission(
  rulebook: Rulebook,
  table: string,
  action: Action,
  fields: readonly string[],
): Condition {
  const rules = inForce(rulebook, table)
  const grants = grantsFor(rules, action)
  const mayChange = (field: string): Condition => {
    // An own action sets its stamps anew; what is sent for them cannot count as left as it is.
    if (action !== 'update' && Object.hasOwn(stampsFor(rules, action), field)) return anyOf()
    const same = leftAsIs(rulebook, table, field)
    if (isFixed(rulebook, table, action, field)) return same
    const covering = grants.filter((grant) => covers(grant, field))
    return anyOf(same, ...covering.map((grant) => fair(rulebook, table, staysHeld(rules, grant), fields)))
  }
  const whole = allOf(
    fair(rulebook, table, permitted(rulebook, table, action), fields),
    ...fields.map(mayChange),
    ...recordChecks(rules).map(({ that }) => fair(rulebook, table, after(that), fields)),
    ...discretions(rulebook, table, action, fields).map(({ that }) => that),
  )
  const changed = withComputed(rulebook, table, [...fields, ...Object.keys(stampsFor(rules, action))])
  return expand(rulebook, settled(whole, changed), [`${table} ${action}`])
}

/**
 * When an update of these fields changes one of them; where it does not, nothing is written, and stamps neither.
 *
 * @param right what has to hold for the update to be made: where that shows a field, so that it is seen is not asked again
 */
export function changesSome(
  rulebook: Rulebook,
  table: string,
  fields: readonly string[],
  caller: Caller,
  right: Condition,
): Condition {
  const changes = fields.map((field) => {
    const sight = specialise(fieldSight(rulebook, table, field), caller)
    return notOf(allOf(unchanged(field), implies(right, sight) ? always : sight))
  })
  return normalise(anyOf(...changes))
}

/** Asks of the record as it is what is asked of it afterwards, where no field it depends on is changed. */
function settled(condition: Condition, changed: readonly string[]): Condition {
  if (condition.kind === 'after') return dependsOn(condition.of, changed) ? condition : condition.of
  // Inside a step, nothing is asked of the change.
  if (condition.kind === 'some') return condition
  return rewrite(condition, { part: (part) => settled(part, changed) })
}

/** The fields that a change of these changes: what is computed may follow from any. */
export const withComputed = ({ model }: Rulebook, table: string, changed: readonly string[]): readonly string[] => [
  ...changed,
  ...Object.entries(tableOf(model, table).fields).flatMap(([name, { filled }]) =>
    filled === 'computed' ? [name] : [],
  ),
]

/** Whether a condition on a record could come out otherwise once these fields of it are changed. */
export function dependsOn(condition: Condition, changed: readonly string[]): boolean {
  const isChanged = (operand: Operand) =>
    operand.kind === 'old' || (operand.kind === 'field' && operand.level === 0 && changed.includes(operand.name))
  return contains(
    condition,
    (part) => part.kind === 'may' || part.kind === 'unchanged' || operandsOf(part).some(isChanged),
  )
}

/** When a caller may create a record in which these fields were given, as one condition on that record. */
export function createPermission(rulebook: Rulebook, table: string, fields: readonly string[]): Condition {
  const rules = inForce(rulebook, table)
  const grants = grantsFor(rules, 'create')
  const stamped = stampsFor(rules, 'create')
  const maySet = (field: string): Condition =>
    Object.hasOwn(stamped, field)
      ? anyOf()
      : anyOf(...grants.filter((each) => covers(each, field)).map((each) => holds(rules, each)))
  const whole = allOf(
    permitted(rulebook, table, 'create'),
    ...fields.map(maySet),
    ...recordChecks(rules).map(({ that }) => withoutChange(that)),
    ...discretions(rulebook, table, 'create', fields).map(({ that }) => that),
  )
  return expand(rulebook, whole, [`${table} create`])
}

/**
 * A condition about a change, for a caller who may not see every field of it: that a hidden field stays as it is, is
 * nothing that a caller who sends a value for it may learn. It counts as changed.
 *
 * @param fields those that a value is sent for
 */
export function fair(rulebook: Rulebook, table: string, condition: Condition, fields: readonly string[]): Condition {
  const grants = grantsFor(inForce(rulebook, table), 'get')
  // Brought into shape first: what is asked of the change then stands outside of what is asked of its outcome.
  return normalise(normalise(condition), (leaf) => {
    if (leaf.kind !== 'unchanged' || !fields.includes(leaf.field)) return leaf
    if (grants.every((grant) => covers(grant, leaf.field))) return leaf
    return leftAsIs(rulebook, table, leaf.field)
  })
}

/** When a grant holds of a record before and after an update. */
function staysHeld(rules: RulesInForce, grant: Grant): Condition {
  return allOf(holds(rules, grant), after(grant.after ?? holds(rules, grant)))
}

/**
 * When a caller may do this to a record, if only the change is right: the {@link permission}, but for what it asks about
 * a change, which is taken to come out in favour of the caller.
 */
export function possibility(rulebook: Rulebook, table: string, action: Action): Condition {
  if (!changesRecord(inForce(rulebook, table), action)) return permission(rulebook, table, action)
  return kept(rulebook, 'possibility', `${table} ${action}`, () => {
    const whole = expand(rulebook, permitted(rulebook, table, action), [`${table} ${action}`])
    return supposing(whole, () => true, always, 'change')
  })
}
