import type { Indexes } from '../sql/index.js'

/** How long, in milliseconds, what was found out counts as true. */
const LASTS = 5 * 60_000

/** How long the names of the reaches that are kept are together, in characters. */
const MOST = 4_000_000

/** What a database tells of its tables. */
export interface Catalogue {
  readonly indexes: Indexes
  readonly rows: Readonly<Record<string, number>>
}

/**
 * What guards know of their database, and of how much their callers reach in it; kept a while, since it only steers the
 * form of a query.
 */
export class Reaches {
  #catalogue: { readonly until: number; readonly found: Catalogue } | undefined
  readonly #kept = new Map<string, { readonly until: number; readonly reach: number }>()
  #characters = 0

  /** The database's indexes and sizes, asked at most every five minutes. */
  catalogue(read: () => Promise<Catalogue>): Catalogue | Promise<Catalogue> {
    if (this.#catalogue && this.#catalogue.until > Date.now()) return this.#catalogue.found
    return read().then((found) => {
      this.#catalogue = { until: Date.now() + LASTS, found }
      return found
    })
  }

  /** How much a caller reaches by a kind of query, found out at most every five minutes. */
  reach(name: string, find: () => Promise<number>): number | Promise<number> {
    const kept = this.#kept.get(name)
    if (kept && kept.until > Date.now()) return kept.reach
    return find().then((reach) => {
      this.#characters += name.length
      for (const oldest of this.#kept.keys()) {
        if (this.#characters <= MOST) break
        this.#kept.delete(oldest)
        this.#characters -= oldest.length
      }
      this.#kept.set(name, { until: Date.now() + LASTS, reach })
      return reach
    })
  }
}
