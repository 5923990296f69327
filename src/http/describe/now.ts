import { LRUCache } from 'lru-cache'
import type { UntypedStore } from '../../guard/index.js'
import { type Caller, type CallerShape, type Rulebook, shapeOfCaller } from '../../rules/index.js'
import { type Described, describe } from './index.js'
import type { Schema } from './types.js'

/** For how many shapes of callers a description is kept. */
const KEPT = 100

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
  const kept = new LRUCache<string, Schema>({ max: KEPT })
  return async (caller, store) => {
    const roles: string[] = []
    for (const role of caller.signedIn ? shape.roles : []) if (await store.hasRole(role)) roles.push(role)
    const now = { ...caller, roles }
    // Callers of one shape differ in values only, on which nothing here hangs.
    const name = shapeOfCaller(now)
    const schema = kept.get(name) ?? describe({ ...described, rulebook }, now)
    kept.set(name, schema)
    return schema
  }
}

function withoutRecord({ attributes, roles, implies, standings, channels }: CallerShape): CallerShape {
  return { attributes, roles, implies, standings, channels }
}
