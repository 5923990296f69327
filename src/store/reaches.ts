import {
  branchesOf,
  chooseForm,
  type Compilation,
  type Form,
  type Indexes,
  isIndexed,
  planReach,
  planRows,
} from '../sql/index.js'
import type { Condition } from '../condition/index.js'
import { planned, run, type Session } from './session.js'

/** Below so many records, every form is quick, and finding out costs more than it gains. */
const FEW = 10_000

/** How long, in milliseconds, what was found out counts as true. */
const LASTS = 5 * 60_000

/** How many callers' reaches are kept. */
const MOST = 10_000

/** What a database tells of its tables. */
interface Catalogue {
  readonly indexes: Indexes
  readonly rows: Readonly<Record<string, number>>
}

/** What guards know of how much their callers reach; kept a while, since it only steers the form of a query. */
export class Reaches {
  #catalogue: { readonly until: number; readonly found: Promise<Catalogue> } | undefined
  readonly #kept = new Map<string, { readonly until: number; readonly reach: number }>()

  /** The database's indexes and sizes, asked at most every five minutes. */
  catalogue(session: Session): Promise<Catalogue> {
    if (this.#catalogue && this.#catalogue.until > Date.now()) return this.#catalogue.found
    const found = readCatalogue(session)
    this.#catalogue = { until: Date.now() + LASTS, found }
    // What failed is asked again.
    found.catch(() => (this.#catalogue = undefined))
    return found
  }

  async get(name: string, find: () => Promise<number>): Promise<number> {
    const kept = this.#kept.get(name)
    if (kept && kept.until > Date.now()) return kept.reach
    const reach = await find()
    if (this.#kept.size >= MOST) this.#kept.delete(this.#kept.keys().next().value as string)
    this.#kept.set(name, { until: Date.now() + LASTS, reach })
    return reach
  }
}

/** What a choice of form was made from. */
export interface Choice {
  readonly form: Form
  readonly rows?: number
  readonly reach?: number
}

/**
 * Chooses how a query finds its records.
 *
 * @param name what the filter is called among this session's plans
 * @param wanted how many records are wanted from the start of an order that an index has; `Infinity` for all
 */
export async function choose(
  session: Session,
  table: string,
  filter: Condition,
  name: string,
  wanted: number,
): Promise<Choice> {
  // Without an OR over subqueries, the database's own planner knows best.
  const branches = planned(session, `branches ${name}`, () => branchesOf(filter) ?? null)
  if (!branches) return { form: 'scan' }
  const { indexes, rows: sizes } = await session.reaches.catalogue(session)
  const rows = sizes[table] ?? 0
  if (rows < FEW) return { form: 'gather', rows }
  const indexed = branches.of.map((branch) => isIndexed(branch, table, indexes))
  const few = Number.isFinite(wanted)
  const cap = Math.ceil(few ? 4 * Math.sqrt(Math.max(wanted, 1) * rows) : rows / 2)
  const who = JSON.stringify(session.caller.attributes, (_, value: unknown) =>
    typeof value === 'bigint' ? String(value) : value,
  )
  const reach = await session.reaches.get(`${session.shape} ${name} ${cap} ${who}`, async () => {
    const compilation: Compilation = { rulebook: session.rulebook, dialect: session.dialect }
    const plan = planned(session, `reach ${name}`, () => planReach(compilation, table, branches, indexed))
    const { rows: counts } = await run(session, plan.statement, { $cap: cap })
    const found = plan.reachOf(counts[0] ?? {}, rows)
    // Beyond the cap, it may be any number: for a few records that makes no difference, for all it might be all.
    return found >= cap && !few ? rows : found
  })
  const gathers = indexed.every(Boolean)
  return { form: chooseForm(session.dialect, { rows, reach, wanted, gathers }), rows, reach }
}

async function readCatalogue(session: Session): Promise<Catalogue> {
  const { connection, dialect, rulebook } = session
  const indexes: Record<string, Set<string>> = {}
  const rows: Record<string, number> = {}
  const { rows: found } = await connection.query(dialect.catalogue, [])
  for (const { table, column, rows: size } of found as readonly Record<string, unknown>[]) {
    ;(indexes[String(table)] ??= new Set()).add(String(column))
    if (size !== null) rows[String(table)] = Number(size)
  }
  for (const table of Object.keys(rulebook.model.tables)) {
    const statement = rows[table] === undefined ? planRows(dialect, table) : undefined
    if (statement) rows[table] = Number((await connection.query(statement.text, [])).rows[0]?.['rows'] ?? 0)
  }
  return { indexes, rows }
}
