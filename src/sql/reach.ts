import type { Condition } from '../condition/index.js'
import { type Compilation, compileCondition, scopeAt, tableAs } from './condition.js'
import type { Branches } from './forms.js'
import { join, raw, slot, sql } from './fragment.js'
import { tableNamed } from './names.js'
import { selectedAs } from './record.js'
import { render, type Statement } from './statement.js'

/** Of a branch without an index, so many records are looked at. */
const SAMPLE = 1_000

/** What what is asked besides is counted as. */
const PASSING = 'passing'

/** A statement that finds out how many records the branches of a filter reach, and how to read it. */
export interface ReachPlan {
  readonly statement: Statement
  /** About how many records, those that several branches reach counted for each. */
  reachOf(row: Readonly<Record<string, unknown>>, rows: number): number
  /** About how many meet what is asked besides: all, where it is as many as are counted at most. */
  passingOf(row: Readonly<Record<string, unknown>>, rows: number, cap: number): number
}

/**
 * Counts what each branch reaches, through its index and no further than given with the request as `$cap`;
 * without an index, the first records of the table stand for all.
 */
export function planReach(
  compilation: Compilation,
  table: string,
  { of, rest }: Branches,
  indexed: readonly boolean[],
  isFound: boolean,
): ReachPlan {
  const { dialect } = compilation
  const root = scopeAt(compilation, table)
  const from = tableAs(compilation, table)
  const cap = dialect.limit(slot({ kind: 'given', name: '$cap' }, { type: 'integer' }))
  const sample = sql`(SELECT * FROM ${from}${dialect.limit(raw(String(SAMPLE)))}) AS _0`
  const count = (condition: Condition, name: string, isIndexed: boolean) => {
    const where = compileCondition({ ...compilation, form: isIndexed ? 'scan' : 'walk' }, condition, [root])
    const found = isIndexed
      ? sql`(SELECT count(*) FROM (SELECT 1 FROM ${from} WHERE ${where}${cap}) AS _c)`
      : sql`(SELECT count(*) FROM ${sample} WHERE ${where})`
    return selectedAs(dialect, { name, text: found })
  }
  const columns = of.map((branch, at) => count(branch, String(at), indexed[at] === true))
  if (rest.length > 0) columns.push(count({ kind: 'all', of: rest }, PASSING, isFound))
  return {
    statement: render(sql`SELECT ${join(columns, ', ')}`, dialect),
    reachOf: (row, rows) =>
      indexed
        .map((isIndexed, at) => Number(row[at]) * (isIndexed ? 1 : Math.max(1, rows / SAMPLE)))
        .reduce((sum, each) => sum + each, 0),
    passingOf: (row, rows, cap) => {
      if (rest.length === 0) return rows
      const counted = Number(row[PASSING])
      if (isFound) return counted >= cap ? rows : counted
      // Of those the sample has none of, there may still be some.
      return Math.min(rows, Math.max(0.5, counted) * Math.max(1, rows / SAMPLE))
    },
  }
}

/** Counts a table's records, about, where the database's catalogue does not tell. */
export function planRows(names: Pick<Compilation, 'dialect' | 'rulebook'>, table: string): Statement | undefined {
  const counted = names.dialect.rows?.(raw(tableNamed(names, table)))
  return counted && render(counted, names.dialect)
}
