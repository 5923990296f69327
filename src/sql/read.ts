import type { Condition } from '../condition/index.js'
import { fieldMasks } from '../decide/index.js'
import { tableOf } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import { aliasAt, type Compilation, compileCondition, scopeAt } from './condition.js'
import type { Dialect } from './dialect.js'
import { branchesOf, gathered, type Source, sourceOf } from './forms.js'
import { type Fragment, join, raw, slot, sql } from './fragment.js'
import { comesAfter, type Order, orderBy } from './order.js'
import { keyIs, planRecord, type RecordPlan, type RecordRequest, selectedAs } from './record.js'
import { type Mark, render, type Statement } from './statement.js'

/** A statement that reads records, and how to read what it returns. */
export interface ReadPlan extends Pick<RecordPlan, 'read'> {
  readonly statement: Statement
}

/** Which records to read, in which order, and what of each. */
export interface ReadRequest extends RecordRequest {
  readonly filter: Condition
  /** Only the record whose key is given with the request. */
  readonly byKey?: boolean
  readonly order?: readonly Order[]
  /** Only what comes after the record whose values are given; those named are missing there. */
  readonly after?: readonly string[]
  /** At most as many as given with the request as `$limit`. */
  readonly limited?: boolean
  /** Without as many, from the start, as given with the request as `$offset`. */
  readonly skipping?: boolean
}

const count = (name: string): Fragment => slot({ kind: 'given', name }, { type: 'integer' })

/** One statement that returns the records a caller sees, masked and in order. */
export function planRead(compilation: Compilation, request: ReadRequest): ReadPlan {
  const { dialect } = compilation
  const { table, filter, order = [], after, byKey, limited, skipping } = request
  const root = scopeAt(dialect, table)
  // What is asked of each record that comes out is asked one by one, unless what the caller reaches is little.
  const form = compilation.form === 'gather' ? 'gather' : 'walk'
  const { columns, read } = planRecord({ ...compilation, form }, request, [root])
  const source = sourceOf(compilation, table, filter)
  // What the caller reaches is little: to be sorted, not to be met while the table is gone through in order.
  const { from, where } = form === 'gather' && limited && order.length > 0 ? fenced(dialect, source) : source
  const conditions = [
    ...(byKey ? [keyIs(compilation, table, root)] : []),
    where,
    ...(after ? [comesAfter(compilation, root, order, after)] : []),
  ]
  const sorted = order.length > 0 ? sql` ORDER BY ${orderBy(compilation, root, order, [root])}` : sql``
  const page =
    limited || skipping
      ? dialect.limit(limited ? count('$limit') : undefined, skipping ? count('$offset') : undefined)
      : sql``
  const selected = join(
    columns.map((column) => selectedAs(dialect, column)),
    ', ',
  )
  const apart = dialect.joining !== undefined && request.related?.length ? raw(dialect.joining) : sql``
  const text = sql`${apart}SELECT ${selected} FROM ${from} WHERE ${join(conditions, ' AND ')}${sorted}${page}`
  return {
    statement: render(text, dialect),
    read,
  }
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
  const { dialect } = compilation
  const { from, where } = sourceOf(compilation, table, filter)
  return render(sql`SELECT 1 FROM ${from} WHERE ${where}${dialect.limit(raw('1'))}`, dialect)
}

/** What stands behind SELECT and its columns: where the records come from, and under which condition. */
export function sourceStatement(compilation: Compilation, table: string, filter: Condition): Statement {
  const { from, where } = sourceOf(compilation, table, filter)
  return render(sql`FROM ${from} WHERE ${where}`, compilation.dialect)
}

/**
 * The condition alone, as it stands in a WHERE.
 *
 * @param alias what the table is called there; left out, as in this library's own queries
 */
export function filterStatement(
  compilation: Compilation,
  table: string,
  filter: Condition,
  { alias, mark }: { readonly alias?: string; readonly mark?: Mark } = {},
): Statement {
  const { dialect } = compilation
  const own = scopeAt(dialect, table)
  const root =
    alias === undefined
      ? own
      : { ...own, column: (field: string) => raw(`${dialect.identifier(alias)}.${dialect.identifier(field)}`) }
  return render(compileCondition(compilation, filter, [root]), dialect, mark)
}

/**
 * A subquery, in brackets, that stands for a table as a caller sees it: without the records that are hidden, and
 * with hidden fields missing. The fields are as the database stores them.
 */
export function planView(
  compilation: Compilation,
  table: string,
  caller: Caller,
  filter: Condition,
  mark?: Mark,
): Statement {
  const { dialect, rulebook } = compilation
  const root = scopeAt(dialect, table)
  const masks = fieldMasks(rulebook, table, caller, 'list', filter)
  const columns = Object.keys(tableOf(rulebook.model, table).fields).map((name) => {
    const mask = masks.get(name)
    const column = root.column(name)
    const seen = mask && compileCondition({ ...compilation, form: 'walk' }, mask, [root])
    return selectedAs(dialect, { name, text: seen ? sql`CASE WHEN ${seen} THEN ${column} END` : column })
  })
  const { from, where } = sourceOf(compilation, table, filter)
  return render(sql`(SELECT ${join(columns, ', ')} FROM ${from} WHERE ${where})`, dialect, mark)
}
