import type { Rulebook } from './rulebook.js'

/** How many things are kept for one rulebook; of more, which requests may ask for, all is worked out again. */
const MOST = 1_000

const rulebooks = new WeakMap<Rulebook, Map<string, unknown>>()

/** What was worked out for a rulebook before, or is now; rulebooks never change. */
export function kept<T>(rulebook: Rulebook, name: string, make: () => T): T {
  const known = rulebooks.get(rulebook) ?? new Map<string, unknown>()
  rulebooks.set(rulebook, known)
  const found = known.get(name)
  if (found !== undefined) return found as T
  const made = make()
  if (known.size >= MOST) known.clear()
  known.set(name, made)
  return made
}
