import { LIMITS } from '../model/index.js'
import type { Rulebook } from './rulebook.js'

/** What is kept for one rulebook, and how much it weighs. */
interface Kept {
  readonly made: Map<string, unknown>
  parts: number
}

const rulebooks = new WeakMap<Rulebook, Kept>()

/**
 * What was worked out for a rulebook before, or is now; rulebooks never change. Where requests ask for more than is kept,
 * all is worked out again.
 *
 * @param partsOf how many parts of conditions it holds on to, about
 */
export function kept<T>(rulebook: Rulebook, name: string, make: () => T, partsOf: (made: T) => number = () => 1): T {
  const all = rulebooks.get(rulebook) ?? { made: new Map(), parts: 0 }
  rulebooks.set(rulebook, all)
  const found = all.made.get(name)
  if (found !== undefined) return found as T
  const made = make()
  all.parts += partsOf(made)
  if (all.parts > LIMITS.keptParts) {
    all.made.clear()
    all.parts = partsOf(made)
  }
  all.made.set(name, made)
  return made
}
