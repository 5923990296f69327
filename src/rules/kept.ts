import { Cache, LIMITS } from '../model/index.js'
import type { Rulebook } from './rulebook.js'

/** Something kept, and how many parts of conditions it holds on to, about. */
interface Kept {
  readonly value: unknown
  readonly parts: number
}

const rulebooks = new WeakMap<Rulebook, Cache<Kept>>()

/**
 * What was worked out for a rulebook before, or is now; rulebooks never change.
 *
 * @param what what it is, such as `permission`
 * @param name of what of the rulebook
 * @param partsOf how many parts of conditions it holds on to, about
 */
export function kept<T>(
  rulebook: Rulebook,
  what: string,
  name: string,
  make: () => T,
  partsOf: (made: T) => number = () => 1,
): T {
  const cache = rulebooks.get(rulebook) ?? new Cache<Kept>(LIMITS.keptParts, ({ parts }) => parts)
  rulebooks.set(rulebook, cache)
  const found = cache.find(what, name)
  if (found) return found.value as T
  const value = make()
  cache.keep(what, name, { value, parts: partsOf(value) })
  return value
}
