import { tableOf } from '../../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  expand,
  grantsFor,
  inForce,
  isFixed,
  isNeverGiven,
  type PlacedGrant,
  type Rulebook,
  specialise,
  whoCondition,
} from '../../rules/index.js'
import { allOf, anyOf, always } from '../../condition/index.js'

/**
 * The fields that an action could be about: those that somebody could see, or send; nothing where it is closed.
 *
 * @param caller whom it is closed or open to; left out, anyone
 */
export function possibleFields(
  rulebook: Rulebook,
  table: string,
  action: Action,
  caller: Caller | undefined,
): readonly string[] | undefined {
  const rules = inForce(rulebook, table)
  const { fields, key } = tableOf(rulebook.model, table)
  const isOpen = ({ to, when = always }: PlacedGrant) => {
    if (!caller) return true
    const who = anyOf(...to.map((each) => whoCondition(rules, each)))
    return specialise(expand(rulebook, allOf(who, when)), caller).kind !== 'never'
  }
  const grants = grantsFor(rules, action).filter(isOpen)
  if (grants.length === 0) return undefined
  const named = Object.keys(fields).filter((name) => grants.some((grant) => covers(grant, name)))
  if (action === 'list' || action === 'get') return [...new Set([...key, ...named])]
  return named.filter((name) =>
    action === 'create' ? !isNeverGiven(rulebook, table, name) : !isFixed(rulebook, table, action, name),
  )
}
