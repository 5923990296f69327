/** Something kept, and how much it weighs. */
interface Entry<V> {
  readonly value: V
  readonly weight: number
}

/**
 * What was worked out once, in groups, and no more of it than a limit: what was worked out longest ago is forgotten first.
 */
export class Cache<V> {
  readonly #groups = new Map<unknown, Map<string, Entry<V>>>()
  #weight = 0

  /**
   * @param most how much is kept, in the unit that `weigh` counts in
   * @param weigh what something weighs, with its name
   */
  constructor(
    private readonly most: number,
    private readonly weigh: (value: V, name: string) => number,
  ) {}

  /** What is kept in this group under this name. */
  find(group: unknown, name: string): V | undefined {
    return this.#groups.get(group)?.get(name)?.value
  }

  /** Keeps something; where it is too large for that, nothing is kept. */
  keep(group: unknown, name: string, value: V): V {
    const before = this.#groups.get(group)?.get(name)
    if (before) this.#weight -= before.weight
    this.#groups.get(group)?.delete(name)
    const weight = this.weigh(value, name)
    this.#makeRoom(weight)
    if (this.#weight + weight > this.most) return value
    const names = this.#groups.get(group) ?? new Map<string, Entry<V>>()
    names.set(name, { value, weight })
    this.#groups.set(group, names)
    this.#weight += weight
    return value
  }

  #makeRoom(weight: number): void {
    for (const [group, names] of this.#groups) {
      for (const [name, entry] of names) {
        if (this.#weight + weight <= this.most) return
        names.delete(name)
        this.#weight -= entry.weight
      }
      this.#groups.delete(group)
    }
  }
}
