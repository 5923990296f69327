import type { Caller, Rulebook } from '../rules/index.js'
import { bind, type DriverRow, type Statement } from '../sql/index.js'
import type { Store } from './store.js'

/** One caller at work: the rules, the store, who it is and what time it is. */
export interface Session {
  readonly rulebook: Rulebook
  readonly store: Store
  readonly caller: Caller
  readonly clock: () => Date
}

/** Runs a statement with the caller's, the clock's and the given values in its slots. */
export function run(
  { store, caller, clock }: Session,
  { text, slots }: Statement,
  given: Readonly<Record<string, unknown>> = {},
  now: Date = clock(),
): Promise<readonly DriverRow[]> {
  return store.query(text, bind(store.dialect, slots, { caller, now, given }))
}

/** The values of a key under the names that `keyIs` gives its slots. */
export function keySlots(key: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(Object.entries(key).map(([name, value]) => [`key ${name}`, value]))
}
