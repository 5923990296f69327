import type { Condition } from '../condition/index.js'
import {
  type GetRequest,
  LIMIT,
  type ListRequest,
  OFFSET,
  type PieceRequest,
  type RecordRequest,
} from '../guard/index.js'
import { storedField, tableOf } from '../model/index.js'
import type { Column } from './answers.js'
import { aliasAt, type Compilation, compileCondition, scopeAt, scopeUnder } from './condition.js'
import type { Dialect } from './dialect.js'
import { branchesOf, gathered, type Source, sourceOf } from './forms.js'
import { type Fragment, join, needs, raw, slot, sql } from './fragment.js'
import { comesAfter, orderBy } from './order.js'
import { keysAre, planRecord, type RecordPlan, selectedAs } from './record.js'
import { render, renderPiece, type Statement } from './statement.js'

/** A statement that reads records, and how to read what it returns. */
export interface ReadPlan extends Pick<RecordPlan, 'read'> {
  readonly statement: Statement
}

const amount = (name: string): Fragment => slot({ kind: 'given', name }, { type: 'integer' })

/** One statement that returns the records a caller sees, masked and in order. */
export function planList(compilation: Compilation, request: ListRequest): ReadPlan {
  const { dialect } = compilation
  const { table, filter, order, after, limited, skipping } = request
  const root = scopeAt(compilation, table)
  // What is asked of each record that comes out is asked one by one, unless what the caller reaches is little.
  const form = compilation.form === 'gather' ? 'gather' : 'walk'
  const { columns, read } = planRecord({ ...compilation, form }, request, [root])
  const source = sourceOf(compilation, table, filter)
  // What the caller reaches is little: to be sorted, not to be met while the table is gone through in order.
  const { from, where } = form === 'gather' && limited ? fenced(dialect, source) : source
  const conditions = [where, ...(after ? [comesAfter(compilation, root, order, after)] : [])]
  const sorted = sql` ORDER BY ${orderBy(compilation, root, order, [root], form === 'gather' && limited)}`
  const page =
    limited || skipping
      ? dialect.limit(limited ? amount(LIMIT) : undefined, skipping ? amount(OFFSET) : undefined)
      : sql``
  return {
    statement: render(
      sql`${selectOf(dialect, request, columns)} FROM ${from} WHERE ${join(conditions, ' AND ')}${sorted}${page}`,
      dialect,
    ),
    read,
  }
}

/** One statement that returns the records whose keys are given with the request, where a caller sees them. */
export function planGet(compilation: Compilation, request: GetRequest): ReadPlan {
  const { dialect } = compilation
  const { table, filter, records } = request
  const root = scopeAt(compilation, table)
  const { columns, read } = planRecord({ ...compilation, form: 'walk' }, request, [root])
  const { from, where } = sourceOf(compilation, table, filter)
  const text = sql`${selectOf(dialect, request, columns)} FROM ${from} WHERE ${keysAre(compilation, table, root, records)} AND ${where}`
  return { statement: render(text, dialect), read }
}

function selectOf(dialect: Dialect, { related }: RecordRequest, columns: readonly Column[]): Fragment {
  const selected = columns.map((column) => selectedAs(dialect, column))
  return sql`${related.length > 0 ? needs('lists') : sql``}SELECT ${join(selected, ', ')}`
}

/** The same records, found before they are sorted, where the database's planner might think better of it. */
function fenced({ fence }: Dialect, { from, where }: Source): Source {
  if (fence === undefined) return { from, where }
  return {
    from: sql`(SELECT ${raw(aliasAt(0))}.* FROM ${from} WHERE ${where}${raw(fence)}) AS ${raw(aliasAt(0))}`,
    where: sql`TRUE`,
  }
}

/** One statement that counts the records a filter lets through. */
export function planCount(compilation: Compilation, table: string, filter: Condition): Statement {
  const { dialect, form } = compilation
  const counted = sql`SELECT count(*) AS ${raw(dialect.identifier('count'))}`
  const branches = form === 'gather' && dialect.joinsBranches ? branchesOf(filter) : undefined
  // The keys alone can be counted without looking at the records.
  if (branches?.rest.length === 0) {
    return render(sql`${counted} FROM (${gathered(compilation, table, branches)}) AS _g`, dialect)
  }
  const { from, where } = sourceOf(compilation, table, filter)
  return render(sql`${counted} FROM ${from} WHERE ${where}`, dialect)
}

/** One statement that says whether a filter lets any record through: a row where it does. */
export function planExists(compilation: Compilation, table: string, filter: Condition): Statement {
  const { dialect, form, rulebook } = compilation
  const source = sourceOf(compilation, table, filter)
  const isFenced = form === 'gather' && dialect.fence !== undefined
  const { from, where } = isFenced ? fenced(dialect, source) : source
  // Where only one is wanted, the planner looks behind the fence for what is quick to find, unless all have to be sorted.
  const sorted = isFenced
    ? sql` ORDER BY ${scopeAt(compilation, table).column(tableOf(rulebook.model, table).key[0])}`
    : sql``
  return render(sql`SELECT 1 FROM ${from} WHERE ${where}${sorted}${dialect.limit(raw('1'))}`, dialect)
}

/** What stands behind SELECT and its columns: where the records come from, and under which condition. */
export function sourceStatement(compilation: Compilation, table: string, filter: Condition): Statement {
  const { from, where } = sourceOf(compilation, table, filter)
  return renderPiece(sql`FROM ${from} WHERE ${where}`, compilation.dialect)
}

/**
 * The condition alone, as it stands in a WHERE.
 */
export function planFilter(compilation: Compilation, { table, filter, alias, placeholder }: PieceRequest): Statement {
  const { dialect } = compilation
  const root =
    alias === undefined ? scopeAt(compilation, table) : scopeUnder(compilation, table, dialect.identifier(alias))
  return renderPiece(compileCondition(compilation, filter, [root]), dialect, placeholder)
}

/**
 * A subquery, in brackets, that stands for a table as a caller sees it: without the records that are hidden, and
 * with hidden fields missing. The fields are as the database stores them, and called so.
 */
export function planView(compilation: Compilation, { table, filter, masks, placeholder }: PieceRequest): Statement {
  const { dialect, rulebook } = compilation
  const root = scopeAt(compilation, table)
  const columns = Object.keys(tableOf(rulebook.model, table).fields).map((name) => {
    const mask = masks.get(name)
    // In a query of one's own, it is compared with what the database has.
    const column = root.bare?.(name) ?? root.column(name)
    const seen = mask && compileCondition({ ...compilation, form: 'walk' }, mask, [root])
    const called = storedField(rulebook.model, table, name)
    return selectedAs(dialect, { name: called, text: seen ? sql`CASE WHEN ${seen} THEN ${column} END` : column })
  })
  const { from, where } = sourceOf(compilation, table, filter)
  return renderPiece(sql`(SELECT ${join(columns, ', ')} FROM ${from} WHERE ${where})`, dialect, placeholder)
}
