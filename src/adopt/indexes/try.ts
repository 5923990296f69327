import { type Caller, type Rulebook, specialise } from '../../rules/index.js'
import {
  compilationOn,
  type Dialect,
  type DriverRow,
  sourceStatement,
  type SqlStore,
  withoutTrace,
} from '../../sql/index.js'
import type { IndexAdvice, TieIndexes } from './advise.js'

/** How a database means to find the records of a tie, and how long that took. */
export interface Effort {
  /** Its plan, in short. */
  readonly plan: string
  /** Milliseconds, the best of three; left out, it was not run. */
  readonly took?: number
}

/** What an index changes for a tie that it serves. */
export interface IndexTried {
  readonly tie: TieIndexes
  readonly before: Effort
  /** Left out where it was not tried. */
  readonly after?: Effort
}

interface Explains {
  readonly explain: string
  /** A plan in short, from what the database says of it. */
  planIn(rows: readonly DriverRow[]): string
  /** Whether an index that is built can be taken back. */
  readonly takesBack: boolean
}

const EXPLAINS: Readonly<Record<Dialect['name'], Explains>> = {
  postgresql: {
    explain: 'EXPLAIN (FORMAT JSON) ',
    planIn: ([row]) => {
      const told = row?.['QUERY PLAN']
      const [{ Plan: plan }] = (typeof told === 'string' ? JSON.parse(told) : told) as [
        { Plan: Record<string, number> },
      ]
      return `cost ${Math.round(plan['Total Cost'] ?? 0)}`
    },
    takesBack: true,
  },
  sqlite: {
    explain: 'EXPLAIN QUERY PLAN ',
    planIn: (rows) =>
      rows
        .map(({ detail }) => String(detail))
        .filter((each) => /^(?:SCAN|SEARCH)/.test(each))
        .join('; '),
    takesBack: true,
  },
  mariadb: {
    explain: 'EXPLAIN ',
    planIn: (rows) => `looks at ${rows.reduce((sum, { rows: each }) => sum + Number(each ?? 0), 0)} rows, about`,
    takesBack: false,
  },
}

/**
 * Finds out what a missing index would change for a tie it serves: how the database means to find its records now, and, where
 * that is wanted and it can take an index back, with it. The index is then built in a transaction that never commits; the
 * table is locked for writes meanwhile.
 *
 * @param caller somebody whom the tie can hold of
 * @returns nothing where the caller alone decides, so that there is nothing to find
 */
export async function tryIndex(
  store: SqlStore,
  rulebook: Rulebook,
  advice: IndexAdvice,
  caller: Caller,
  isTried: boolean,
): Promise<IndexTried | undefined> {
  const [tie] = advice.serves
  if (!tie) return undefined
  const condition = specialise(tie.that, caller)
  if (condition.kind === 'never' || condition.kind === 'always') return undefined
  const compilation = { ...(await compilationOn(store, rulebook)), form: 'scan' as const }
  const { text, bind } = sourceStatement(compilation, tie.table, condition)
  const values = bind({ caller, clock: () => new Date() })
  const { explain, planIn, takesBack } = EXPLAINS[store.dialect.name]
  const effort = async (inside: Pick<SqlStore, 'query'>, isRun: boolean): Promise<Effort> => {
    const { rows } = await inside.query(`${explain}SELECT count(*) ${text}`, [...values])
    const plan = planIn(rows)
    if (!isRun) return { plan }
    let took = Infinity
    for (let at = 0; at < 3; at += 1) {
      const start = performance.now()
      await inside.query(`SELECT count(*) ${text}`, [...values])
      took = Math.min(took, performance.now() - start)
    }
    return { plan, took }
  }
  if (!isTried || !takesBack) return { tie, before: await effort(store, false) }
  return withoutTrace(store, [], async (inside) => {
    const before = await effort(inside, true)
    await inside.query(advice.statement, [])
    return { tie, before, after: await effort(inside, true) }
  })
}
