import { always, type Condition, implies } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  deniesFor,
  fieldSight,
  grantsFor,
  inForce,
  isFixed,
  permission,
  type PlacedGrant,
  type Rulebook,
  type RulesInForce,
  specialise,
} from '../rules/index.js'
import { holding, striking } from './holding.js'
import { type Facts, type Question, questionsFor, SIGHT, whoId } from './questions.js'
import { whoName } from './verdict.js'

/** What a caller may do to one record that the caller sees. */
export interface Access {
  /** Whether the caller may update it, delete it, or do to it what is the table's own, by action. */
  readonly may: Readonly<Record<'update' | 'delete', boolean>> & Readonly<Record<Action, boolean>>
  /** The fields the caller may change by an update, as the record stands. */
  readonly changeable: readonly string[]
  /** The fields the caller does not see. */
  readonly hidden: readonly string[]
  /** The ties by which something of this is open to the caller; those that open nothing are not told. */
  readonly ties: readonly string[]
  /** What lets the caller see the record: ties, roles, `signed in` or `anyone`. */
  readonly seenBy: readonly string[]
}

const actionsOn = (rules: RulesInForce): readonly Action[] => ['update', 'delete', ...rules.actions]

/** What has to be known, for its {@link Access}, of a record that the caller was found to see by this action. */
export function accessQuestions(
  rulebook: Rulebook,
  table: string,
  caller: Caller,
  seenBy: 'list' | 'get' = 'list',
): readonly Question[] {
  const sight = (action: Action) => specialise(permission(rulebook, table, action), caller)
  // What is listed can be seen on its own as well, unless the rules keep the two apart.
  const isSure = seenBy === 'get' || JSON.stringify(sight('list')) === JSON.stringify(sight('get'))
  const known = [{ id: SIGHT, condition: isSure ? always : sight('get') }]
  const actions = [seenBy, ...actionsOn(inForce(rulebook, table))]
  return questionsFor(
    actions.map((action) => ({ rulebook, table, action, caller })),
    known,
  )
}

/**
 * Prepares to put the facts about records the caller sees together to what the caller may do to each: the rules
 * are gone through once, not for each record.
 */
export function accessReader(
  rulebook: Rulebook,
  table: string,
  caller: Caller,
  seenBy: 'list' | 'get' = 'list',
): (facts: Facts) => Access {
  const rules = inForce(rulebook, table)
  const { fields, key } = tableOf(rulebook.model, table)
  const names = Object.keys(fields)
  const isTrusted = caller.trusted !== undefined
  const actions = actionsOn(rules).map((action) => [action, allowance(rules, action)] as const)
  const changers = grantsFor(rules, 'update').map(heldFields(names))
  const seers = grantsFor(rules, seenBy).map((grant) => ({
    ...heldFields(names)(grant),
    who: grant.to.map((who) => ({ id: whoId(who), name: whoName(who) })),
  }))
  const settable = names.filter((name) => !isFixed(rulebook, table, 'update', name))
  const hideable = names.filter((name) => !key.includes(name))
  const grants = [seenBy, ...actionsOn(rules)].flatMap((action) =>
    grantsFor(rules, action).map((grant) => ({ action, holds: holding(grant), to: grant.to })),
  )
  const ties = Object.keys(rules.ties).map((name) => ({
    name,
    id: whoId(name),
    openers: grants.filter(({ to }) => to.includes(name)),
  }))
  return (facts) => {
    const may = Object.fromEntries(actions.map(([action, allows]) => [action, isTrusted ? true : allows(facts)]))
    const changing = may['update'] ? changers.filter(({ holds }) => holds(facts)) : []
    const seeing = seers.filter(({ holds }) => holds(facts))
    const changed = (name: string) => isTrusted || changing.some(({ covered }) => covered.has(name))
    const seen = (name: string) => isTrusted || seeing.some(({ covered }) => covered.has(name))
    const opens = ({ action, holds }: (typeof grants)[number]) => (action === seenBy || may[action]) && holds(facts)
    const held = seeing.flatMap(({ who }) => who.filter(({ id }) => facts(id)).map(({ name }) => name))
    return {
      may: may as Access['may'],
      changeable: may['update'] ? settable.filter(changed) : [],
      hidden: hideable.filter((name) => !seen(name)),
      ties: ties.filter(({ id, openers }) => openers.some(opens) && facts(id)).map(({ name }) => name),
      seenBy: held.length > 1 ? [...new Set(held)] : held,
    }
  }
}

/** Whether a record the caller sees may be acted on, by the facts: some grant holds and no deny does. */
export function allowance(rules: RulesInForce, action: Action): (facts: Facts) => boolean {
  const grants = grantsFor(rules, action).map((grant) => holding(grant))
  const denies = deniesFor(rules, action).map(striking)
  return (facts) => facts(SIGHT) && grants.some((holds) => holds(facts)) && !denies.some((strikes) => strikes(facts))
}

const heldFields = (names: readonly string[]) => (grant: PlacedGrant) => ({
  holds: holding(grant),
  covered: new Set(names.filter((name) => covers(grant, name))),
})

/**
 * When a caller sees each field of certain records, for those fields that are not seen in all of them.
 *
 * @param filter what all of the records meet, decided for this caller; left out, that the caller sees them
 */
export function fieldMasks(
  rulebook: Rulebook,
  table: string,
  caller: Caller,
  action: 'list' | 'get',
  filter = specialise(permission(rulebook, table, action), caller),
): ReadonlyMap<string, Condition> {
  const masks = new Map<string, Condition>()
  const rules = inForce(rulebook, table)
  const grants = grantsFor(rules, action)
  for (const field of Object.keys(tableOf(rulebook.model, table).fields)) {
    // Seeing the record means that some grant holds; a field that all grants cover needs no mask.
    if (grants.every((grant) => covers(grant, field))) continue
    const sight = specialise(fieldSight(rulebook, table, field, action), caller)
    if (!implies(filter, sight)) masks.set(field, sight)
  }
  return masks
}
