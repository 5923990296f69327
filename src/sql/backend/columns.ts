import { type ModelData, schemasOf } from '../../model/index.js'
import type { DriverRow } from '../answers.js'
import { type Trait, TRAITS, type Traits } from '../dialect.js'
import { schemasIn } from '../names.js'
import { render, type Statement } from '../statement.js'
import type { Database } from './sql-store.js'
import { placesIn } from './told.js'

/** What is known of a database's columns, read once for each store and the schemas that are asked about. */
export class Columns {
  #traits: Traits | undefined
  #narrow: Narrow = new Map()
  #reading: Promise<readonly DriverRow[]> | undefined

  private constructor(private readonly statement: Statement | undefined) {
    if (!statement) this.#traits = new Map()
  }

  static readonly #known = new WeakMap<object, Map<string, Columns>>()

  /** Those of a store, in the schemas of a model. */
  static of(store: Pick<Database, 'dialect'>, model: ModelData): Columns {
    const known = Columns.#in(store)
    const schemas = schemasOf(model)
    const traits = store.dialect.traits?.(schemasIn(schemas))
    const columns = known.get(JSON.stringify(schemas)) ?? new Columns(traits && render(traits, store.dialect))
    known.set(JSON.stringify(schemas), columns)
    return columns
  }

  /** Lets a store know what another knows of the same database. */
  static share<S extends Database>(store: S, other: Database): S {
    Columns.#known.set(store, Columns.#in(other))
    return store
  }

  static #in(store: object): Map<string, Columns> {
    const known = Columns.#known.get(store) ?? new Map<string, Columns>()
    Columns.#known.set(store, known)
    return known
  }

  /** The traits; where they are not known yet, of every column all: what is exact in any case. */
  get traits(): Traits {
    return this.#traits ?? ANY
  }

  /** The columns of texts that store something else of some, as far as they are known. */
  get narrow(): Narrow {
    return this.#narrow
  }

  get areKnown(): boolean {
    return this.#traits !== undefined
  }

  /** Reads what is not known yet. */
  async read(query: (statement: Statement) => Promise<readonly DriverRow[]>): Promise<void> {
    this.#reading ??= query(this.statement as Statement)
    try {
      const rows = await this.#reading
      this.#narrow = narrowIn(rows)
      this.#traits = traitsIn(rows)
    } finally {
      this.#reading = undefined
    }
  }
}

/** What a column of texts does not store as it is. */
export interface Narrowness {
  /** How many characters it has at most. */
  readonly most?: number
  /** Whether blanks at the end are lost. */
  readonly isPadded?: true
}

/** By the place of the column in the database. */
type Narrow = ReadonlyMap<string, Narrowness>

const ALL: ReadonlySet<Trait> = new Set<Trait>(TRAITS)

/** Of every column all traits. */
const ANY = { get: () => ALL } as unknown as Traits

function traitsIn(rows: readonly DriverRow[]): Traits {
  const traits = new Map<string, Set<Trait>>()
  for (const row of rows) {
    for (const place of placesIn(row, 'column')) {
      traits.set(place, (traits.get(place) ?? new Set()).add(row['trait'] as Trait))
    }
  }
  return traits
}

function narrowIn(rows: readonly DriverRow[]): Narrow {
  const narrow = new Map<string, Narrowness>()
  for (const row of rows) {
    const { trait, size } = row
    if (trait !== 'short' && trait !== 'padded') continue
    const told: Narrowness = trait === 'short' ? { most: Number(size) } : { isPadded: true }
    for (const place of placesIn(row, 'column')) narrow.set(place, { ...narrow.get(place), ...told })
  }
  return narrow
}
