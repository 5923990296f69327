import { always, type Condition } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  fieldSight,
  grantsFor,
  isFixed,
  permission,
  type Rulebook,
  rulesOf,
  specialise,
  type TableRules,
} from '../rules/index.js'
import { type Facts, type Question, questionsFor, SIGHT, tieQuestions, whoId } from './questions.js'
import { grantHolds, verdictFrom, whoName } from './verdict.js'

/** What a caller may do to one record that the caller sees. */
export interface Access {
  /** Whether the caller may update it, delete it, or do to it what is the table's own, by action. */
  readonly may: Readonly<Record<'update' | 'delete', boolean>> & Readonly<Record<Action, boolean>>
  /** The fields the caller may change by an update, as the record stands. */
  readonly changeable: readonly string[]
  /** The fields the caller does not see. */
  readonly hidden: readonly string[]
  /** The ties between caller and record. */
  readonly ties: readonly string[]
  /** What lets the caller see the record: ties, roles, `signed in` or `anyone`. */
  readonly seenBy: readonly string[]
}

const actionsOn = (rules: TableRules): readonly Action[] => ['update', 'delete', ...rules.actions]

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
  const known = [{ id: SIGHT, condition: isSure ? always : sight('get') }, ...tieQuestions(rulebook, table, caller)]
  const actions = [seenBy, ...actionsOn(rulesOf(rulebook, table))]
  return questionsFor(
    actions.map((action) => ({ rulebook, table, action, caller })),
    known,
  )
}

/** Puts the facts about a record the caller sees together to what the caller may do to it. */
export function accessFrom(
  rulebook: Rulebook,
  table: string,
  caller: Caller,
  facts: Facts,
  seenBy: 'list' | 'get' = 'list',
): Access {
  const rules = rulesOf(rulebook, table)
  const names = Object.keys(tableOf(rulebook.model, table).fields)
  const may = Object.fromEntries(
    actionsOn(rules).map((action) => [action, verdictFrom({ rulebook, table, action, caller }, facts).allowed]),
  ) as Access['may']
  const held = (action: Action) => grantsFor(rules, action).filter((grant) => grantHolds(grant, facts))
  const [seers, changers] = [held(seenBy), held('update')]
  const covered = (grants: typeof seers, name: string) =>
    caller.trusted !== undefined || grants.some((grant) => covers(grant, name))
  return {
    may,
    changeable: names.filter(
      (name) => may.update && !isFixed(rulebook, table, 'update', name) && covered(changers, name),
    ),
    hidden: names.filter((name) => !covered(seers, name) && !tableOf(rulebook.model, table).key.includes(name)),
    ties: Object.keys(rules.ties).filter((name) => facts(whoId(name))),
    seenBy: [...new Set(seers.flatMap(({ to }) => to.filter((who) => facts(whoId(who))).map(whoName)))],
  }
}

/** When a caller sees each field of a record the caller sees, for those fields that are not always seen. */
export function fieldMasks(
  rulebook: Rulebook,
  table: string,
  caller: Caller,
  action: 'list' | 'get',
): ReadonlyMap<string, Condition> {
  const masks = new Map<string, Condition>()
  const rules = rulesOf(rulebook, table)
  const grants = grantsFor(rules, action)
  for (const field of Object.keys(tableOf(rulebook.model, table).fields)) {
    // Seeing the record means that some grant holds; a field that all grants cover needs no mask.
    if (grants.every((grant) => covers(grant, field))) continue
    const sight = specialise(fieldSight(rulebook, table, field, action), caller)
    if (sight.kind !== 'always') masks.set(field, sight)
  }
  return masks
}
