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
  #lengths: Lengths = new Map()
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

  /** How many characters the columns of texts hold that hold but so many. */
  get lengths(): Lengths {
    return this.#lengths
  }

  get areKnown(): boolean {
    return this.#traits !== undefined
  }

  /** Reads what is not known yet. */
  async read(query: (statement: Statement) => Promise<readonly DriverRow[]>): Promise<void> {
    this.#reading ??= query(this.statement as Statement)
    try {
      const rows = await this.#reading
      this.#lengths = lengthsIn(rows)
      this.#traits = traitsIn(rows)
    } finally {
      this.#reading = undefined
    }
  }
}

/** Lengths by the place of the column in the database. */
type Lengths = ReadonlyMap<string, number>

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

const lengthsIn = (rows: readonly DriverRow[]): Lengths =>
  new Map(
    rows
      .filter(({ trait }) => trait === 'short')
      .flatMap((row) => placesIn(row, 'column').map((place) => [place, Number(row['size'])] as const)),
  )
