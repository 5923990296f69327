import {
  branchesOf,
  chooseForm,
  type Form,
  isByKey,
  isIndexed,
  planReach,
  planRows,
  type Statement,
} from '../sql/index.js'
import type { Condition } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import type { Catalogue } from './reaches.js'
import { compilationOf, planned, query, run, type Session, withAnswer } from './session.js'

/** Below so many records, every form is quick, and finding out costs more than it gains. */
const FEW = 1_000

/** How many records a table is taken to have that does not tell. */
const UNTOLD = 10_000

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
export function choose(
  session: Session,
  table: string,
  filter: Condition,
  name: string,
  wanted: number,
): Choice | Promise<Choice> {
  // Without an OR over subqueries, the database's own planner knows best.
  const branches = planned(session, `branches ${name}`, () => branchesOf(filter) ?? null)
  if (!branches) return PLAIN
  const { key } = tableOf(session.rulebook.model, table)
  // Records named by their keys are few, and each is looked up on its own.
  if (planned(session, `by key ${name}`, () => ({ is: branches.rest.some((each) => isByKey(each, key)) })).is)
    return WALK
  return withAnswer(
    session.reaches.catalogue(() => readCatalogue(session)),
    ({ indexes, rows: sizes }) => {
      const rows = sizes[table] ?? 0
      if (rows < FEW) return { form: 'gather', rows }
      const { indexed, gathers } = planned(session, `indexed ${name}`, () => {
        const each = branches.of.map((branch) => isIndexed(branch, table, indexes))
        return { indexed: each, gathers: each.every(Boolean) }
      })
      const few = Number.isFinite(wanted)
      const cap = Math.ceil(few ? 4 * Math.sqrt(Math.max(wanted, 1) * rows) : rows / 2)
      const reached = session.reaches.reach(`${session.shape} ${session.who()} ${cap} ${name}`, async () => {
        const plan = planned(session, `reach ${name}`, () =>
          planReach(compilationOf(session), table, branches, indexed),
        )
        const { rows: counts } = await run(session, plan.statement, { $cap: cap })
        const found = plan.reachOf(counts[0] ?? {}, rows)
        // Beyond the cap, it may be any number: for a few records that makes no difference, for all it might be all.
        return found >= cap && !few ? rows : found
      })
      return withAnswer(reached, (reach) => ({
        form: chooseForm(session.dialect, { rows, reach, wanted, gathers }),
        rows,
        reach,
      }))
    },
  )
}

const PLAIN: Choice = { form: 'scan' }
const WALK: Choice = { form: 'walk' }

/** Not every table tells; one that does not is taken to be large enough for a look at what the caller reaches. */
async function countRows(session: Session, { text }: Statement): Promise<number> {
  const { rows } = await query(session, session.connection, text, [])
  return Number(rows[0]?.['rows'] ?? 0)
}

async function readCatalogue(session: Session): Promise<Catalogue> {
  const { dialect, rulebook } = session
  const indexes: Record<string, Set<string>> = {}
  const rows: Record<string, number> = {}
  const { rows: found } = await query(session, session.connection, dialect.catalogue, [])
  const countable = new Set<string>()
  for (const { table, column, rows: size } of found as readonly Record<string, unknown>[]) {
    ;(indexes[String(table)] ??= new Set()).add(String(column))
    if (size !== null) rows[String(table)] = Number(size)
    if (column === '') countable.add(String(table))
  }
  for (const table of Object.keys(rulebook.model.tables)) {
    const statement = rows[table] === undefined ? planRows(dialect, table) : undefined
    if (statement) rows[table] = countable.has(table) ? await countRows(session, statement) : UNTOLD
  }
  return { indexes, rows }
}
