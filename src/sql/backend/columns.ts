import { columnName } from '../condition.js'
import type { Trait, Traits } from '../dialect.js'
import type { Database, Outcome } from './sql-store.js'

/** What is known of a database's columns, read once for each store. */
export class Columns {
  #traits: Traits | undefined
  #reading: Promise<Traits> | undefined

  private constructor(private readonly text: string | undefined) {
    if (text === undefined) this.#traits = new Map()
  }

  static readonly #known = new WeakMap<object, Columns>()

  /** Those of a store. */
  static of(store: Database): Columns {
    const known = Columns.#known.get(store) ?? new Columns(store.dialect.traits)
    Columns.#known.set(store, known)
    return known
  }

  /** Lets a store know what another knows of the same database. */
  static share<S extends Database>(store: S, other: Database): S {
    Columns.#known.set(store, Columns.of(other))
    return store
  }

  /** The traits; where they are not known yet, of every column all: what is exact in any case. */
  get traits(): Traits {
    return this.#traits ?? ANY
  }

  get areKnown(): boolean {
    return this.#traits !== undefined
  }

  /** Reads what is not known yet. */
  async read(query: (text: string) => Outcome | Promise<Outcome>): Promise<void> {
    this.#reading ??= readTraits(query, this.text as string)
    try {
      this.#traits = await this.#reading
    } finally {
      this.#reading = undefined
    }
  }
}

const ALL: ReadonlySet<Trait> = new Set<Trait>(['fine', 'loose', 'long'])

/** Of every column all traits. */
const ANY = { get: () => ALL } as unknown as Traits

async function readTraits(query: (text: string) => Outcome | Promise<Outcome>, text: string): Promise<Traits> {
  const { rows } = await query(text)
  const traits = new Map<string, Set<Trait>>()
  for (const { table, column, trait } of rows) {
    const name = columnName(String(table), String(column))
    traits.set(name, (traits.get(name) ?? new Set()).add(trait as Trait))
  }
  return traits
}
