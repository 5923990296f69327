import { Cache } from '../../model/index.js'
import type { Indexes } from '../indexes.js'

/** How long, in milliseconds, what was found out counts as true. */
const LASTS = 5 * 60_000

/** How many bytes what is kept of reaches takes, about, and each beside its name. */
const MOST = 4_000_000
const EACH = 200

/** What a database tells of its tables. */
export interface Catalogue {
  readonly indexes: Indexes
  readonly rows: Readonly<Record<string, number>>
  /** Fields, as `plots.soil`, whose columns compare otherwise than they are stored: an index serves a value alone. */
  readonly unserved: ReadonlySet<string>
}

/** About how many records a caller reaches, and how many meet what is asked besides. */
export interface Reach {
  readonly reach: number
  readonly passing: number
}

/** Something that was found out, and how long it counts. */
interface Found<T> {
  readonly until: number
  readonly found: T
}

/**
 * What is known of a database, and of how much callers reach in it; kept a while, since it only steers the form of a
 * query.
 */
export class Reaches {
  #catalogue: Found<Catalogue> | undefined
  readonly #kept = new Cache<Found<Reach>>(MOST, (_, name) => EACH + name.length)

  /** The database's indexes and sizes, asked at most every five minutes. */
  catalogue(read: () => Promise<Catalogue>): Catalogue | Promise<Catalogue> {
    if (this.#catalogue && this.#catalogue.until > Date.now()) return this.#catalogue.found
    return read().then((found) => {
      this.#catalogue = { until: Date.now() + LASTS, found }
      return found
    })
  }

  /**
   * How much a caller reaches, found out at most every five minutes.
   *
   * @param of by what
   * @param name whoever asks, for what
   */
  reach(of: object, name: string, find: () => Promise<Reach>): Reach | Promise<Reach> {
    const kept = this.#kept.find(of, name)
    if (kept && kept.until > Date.now()) return kept.found
    return find().then((found) => this.#kept.keep(of, name, { until: Date.now() + LASTS, found }).found)
  }
}
