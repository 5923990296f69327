import type { UntypedStore } from '../../guard/index.js'
import type { Caller, CallerShape, Rulebook } from '../../rules/index.js'
import { type Described, describe } from './index.js'
import type { Schema } from './types.js'

/**
 * Describes what a caller could do with the roles that are the caller's at this moment, by whatever way.
 *
 * @param described what is served
 * @returns what describes it to a caller
 */
export function describer(described: Described): (caller: Caller, store: UntypedStore) => Promise<Schema> {
  const shape = withoutRecord(described.rulebook.caller)
  // Roles are looked up before, so that none can still turn out to be had.
  const rulebook: Rulebook = { ...described.rulebook, caller: shape }
  return async ({ signedIn, roles, attributes, channel }, store) => {
    if (!signedIn) return describe({ ...described, rulebook }, { signedIn, roles, attributes })
    const had: string[] = []
    for (const role of shape.roles) if (await store.hasRole(role)) had.push(role)
    return describe({ ...described, rulebook }, { signedIn, roles: had, attributes, ...(channel && { channel }) })
  }
}

function withoutRecord({ attributes, roles, implies, standings, channels }: CallerShape): CallerShape {
  return { attributes, roles, implies, standings, channels }
}
