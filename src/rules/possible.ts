import { tableOf } from '../model/index.js'
import type { Caller } from './caller.js'
import { inForce } from './in-force.js'
import { decidedFor, expand, holds, isFixed, isNeverGiven } from './permission.js'
import { type Action, covers, grantsFor, isRead, type PlacedGrant, type Rulebook } from './rulebook.js'

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
  const isOpen = (grant: PlacedGrant) =>
    !caller || caller.trusted !== undefined || decidedFor(expand(rulebook, holds(rules, grant)), caller) !== false
  const grants = grantsFor(rules, action).filter(isOpen)
  if (grants.length === 0) return undefined
  const named = Object.keys(fields).filter((name) => grants.some((grant) => covers(grant, name)))
  if (isRead(action)) return [...new Set([...key, ...named])]
  return named.filter((name) =>
    action === 'create' ? !isNeverGiven(rulebook, table, name) : !isFixed(rulebook, table, action, name),
  )
}
