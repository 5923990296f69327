import { type FieldData, type ModelData, readTyped, storedField, storedTable, tableOf } from '../model/index.js'
import type { SqlStore } from '../sql/index.js'
import type { Change, Changes, Followed, KnownRow } from './changes.js'
import { LiveConfigError } from './errors.js'
import { CHANNEL, ODD_COLUMNS, toldFields, TRIGGERS_THERE, triggerStates } from './triggers.js'

/**
 * A store in PostgreSQL that tells of everything written to the model's tables, by whomever: this process, another, or
 * somebody at a terminal. `pachter triggers install` puts the triggers there that it rests on, and `remove` takes them away.
 *
 * It listens on a connection of its own, straight to the server: a pooler that hands on connections after each transaction
 * passes no notifications on.
 *
 * @param store `postgresqlStore` or `pgliteStore`
 * @param model the model whose tables are followed
 * @throws {LiveConfigError} where the store cannot listen; when it is listened to, where a table has no triggers
 * @example
 * const store = followTriggers(postgresqlStore(pool), model)
 * const live = await createLive({ handler: createHandler({ guard: createGuard({ rules, store }), identity }), store })
 */
export function followTriggers(store: SqlStore, model: ModelData): Followed<SqlStore> {
  const { listen } = store
  if (!listen) {
    throw new LiveConfigError(
      'This store cannot listen; followTriggers is for PostgreSQL, and followWrites for any other.',
    )
  }
  const changes: Changes = {
    listen: async (hear) => {
      const { rows } = await store.query(TRIGGERS_THERE, [])
      const missing = triggerStates(model, rows as never).filter(({ state }) => state !== 'there')
      if (missing.length > 0) {
        const tables = missing.map(({ table, state }) => `${table} (${state})`).join(', ')
        throw new LiveConfigError(`Triggers are wanting on ${tables}; install them with: pachter triggers install`)
      }
      const odd = await oddColumns(store)
      return listen.call(store, CHANNEL, (payload) => {
        if (payload === undefined) return hear('gap')
        for (const change of changesIn(model, odd, payload)) hear(change)
      })
    },
  }
  return { ...store, changes }
}

/** Columns whose values are not told as they are read, by table and column. */
type Odd = ReadonlySet<string>

async function oddColumns(store: SqlStore): Promise<Odd> {
  const { rows } = await store.query(ODD_COLUMNS, [])
  return new Set(rows.map((row) => JSON.stringify([row['table'], row['column']])))
}

/** The types whose values PostgreSQL writes as a model does. */
const PLAIN = ['integer', 'bigInteger', 'text', 'uuid', 'choice', 'date', 'boolean']

const isTold = (model: ModelData, odd: Odd, table: string, name: string, { type }: FieldData): boolean =>
  PLAIN.includes(type) && !odd.has(JSON.stringify([storedTable(model, table).name, storedField(model, table, name)]))

/** Reads what a trigger told. Anybody who may use the database can notify: what cannot be read touches everything. */
function changesIn(model: ModelData, odd: Odd, payload: string): readonly (Change | 'gap')[] {
  try {
    const told = JSON.parse(payload) as Told
    // What is told of tables of another model is none of this one's.
    if (!Object.hasOwn(model.tables, told.table)) return []
    return [readChange(model, odd, told)]
  } catch {
    return ['gap']
  }
}

interface Told {
  readonly table: string
  readonly rows?: readonly Readonly<Record<string, string | null>>[]
  readonly columns?: readonly string[]
}

function readChange(model: ModelData, odd: Odd, { table, rows, columns }: Told): Change {
  const { fields } = tableOf(model, table)
  const names = Object.keys(fields)
  const changed = columns && names.filter((name) => columns.includes(storedField(model, table, name)))
  return {
    table,
    ...(changed && { fields: changed }),
    ...(rows && { rows: rows.map((row) => readRow(model, odd, table, row)) }),
  }
}

function readRow(model: ModelData, odd: Odd, table: string, row: Readonly<Record<string, string | null>>): KnownRow {
  const { fields } = tableOf(model, table)
  const read = toldFields(model, table).flatMap((name): [string, unknown][] => {
    const shape = fields[name]
    const written = row[storedField(model, table, name)]
    if (!shape || written === undefined) return []
    if (written === null) return [[name, null]]
    // What is left out is not known, and then every list that rests on it is asked again.
    return isTold(model, odd, table, name, shape) ? [[name, readTyped(shape, written)]] : []
  })
  return Object.fromEntries(read)
}
