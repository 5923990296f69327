import type { Caller } from '../rules/index.js'

/** What was worked out once, kept by name; of more than so many, the oldest are forgotten. */
export class Plans {
  readonly #kept = new Map<string, unknown>()

  constructor(readonly most = 1_000) {}

  /** What is kept under this name, made where it is not. */
  get<T>(name: string, make: () => T): T {
    const kept = this.#kept.get(name) as T | undefined
    if (kept !== undefined) return kept
    const made = make()
    if (this.#kept.size >= this.most) this.#kept.delete(this.#kept.keys().next().value as string)
    this.#kept.set(name, made)
    return made
  }
}

/**
 * What a plan depends on of its caller, as text: callers of one shape differ in values only, which are bound
 * with each request.
 */
export function shapeOf({ signedIn, roles, attributes, channel, trusted }: Caller): string {
  if (trusted !== undefined) return 'trusted'
  // As JSON: whatever stands in a role's name, no two shapes are ever one.
  return JSON.stringify([signedIn, Object.keys(attributes), [...roles].sort(), channel])
}
