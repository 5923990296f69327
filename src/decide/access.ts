import type { Condition } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  fieldSight,
  grantsFor,
  isFixed,
  type Rulebook,
  rulesOf,
  specialise,
  type TableRules,
} from '../rules/index.js'
import { type Facts, type Question, questionsFor, tieQuestions, whoId } from './questions.js'
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

/** What has to be known of a record for its {@link Access}. */
export function accessQuestions(rulebook: Rulebook, table: string, caller: Caller): readonly Question[] {
  const actions = ['list', ...actionsOn(rulesOf(rulebook, table))]
  return questionsFor(
    actions.map((action) => ({ rulebook, table, action, caller })),
    tieQuestions(rulebook, table, caller),
  )
}

/** Puts the facts about a record the caller sees together to what the caller may do to it. */
export function accessFrom(rulebook: Rulebook, table: string, caller: Caller, facts: Facts): Access {
  const rules = rulesOf(rulebook, table)
  const names = Object.keys(tableOf(rulebook.model, table).fields)
  const may = Object.fromEntries(
    actionsOn(rules).map((action) => [action, verdictFrom({ rulebook, table, action, caller }, facts).allowed]),
  ) as Access['may']
  const held = (action: 'list' | 'update') => grantsFor(rules, action).filter((grant) => grantHolds(grant, facts))
  const [seers, changers] = [held('list'), held('update')]
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
