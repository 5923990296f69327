import type { Condition } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import { type Caller, covers, fieldSight, grantsFor, type Rulebook, rulesOf, specialise } from '../rules/index.js'
import { type Facts, type Question, questionsFor, tieQuestions, whoId } from './questions.js'
import { grantHolds, verdictFrom, whoName } from './verdict.js'

/** What a caller may do to one record that the caller sees. */
export interface Access {
  readonly update: boolean
  readonly delete: boolean
  /** The fields the caller may change, as the record stands. */
  readonly changeable: readonly string[]
  /** The fields the caller does not see. */
  readonly hidden: readonly string[]
  /** The ties between caller and record. */
  readonly ties: readonly string[]
  /** What lets the caller see the record: ties, roles, `signed in` or `anyone`. */
  readonly seenBy: readonly string[]
}

/** What has to be known of a record for its {@link Access}. */
export function accessQuestions(rulebook: Rulebook, table: string, caller: Caller): readonly Question[] {
  return questionsFor(
    (['list', 'update', 'delete'] as const).map((action) => ({ rulebook, table, action, caller })),
    tieQuestions(rulebook, table, caller),
  )
}

/** Puts the facts about a record the caller sees together to what the caller may do to it. */
export function accessFrom(rulebook: Rulebook, table: string, caller: Caller, facts: Facts): Access {
  const rules = rulesOf(rulebook, table)
  const { key, fields } = tableOf(rulebook.model, table)
  const may = (action: 'update' | 'delete') => verdictFrom({ rulebook, table, action, caller }, facts).allowed
  const update = may('update')
  const updaters = grantsFor(rules, 'update').filter((grant) => grantHolds(grant, facts))
  const seers = grantsFor(rules, 'list').filter((grant) => grantHolds(grant, facts))
  const names = Object.keys(fields)
  return {
    update,
    delete: may('delete'),
    changeable: names.filter(
      (name) =>
        update &&
        !key.includes(name) &&
        !Object.hasOwn(rules.stamps.update, name) &&
        updaters.some((grant) => covers(grant, name)),
    ),
    hidden: names.filter((name) => !key.includes(name) && !seers.some((grant) => covers(grant, name))),
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
