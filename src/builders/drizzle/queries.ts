import {
  type Column,
  type ColumnBaseConfig,
  type ColumnDataType,
  getTableColumns,
  getTableName,
  type SQL,
  sql,
  Subquery,
  type Table,
  type UpdateColConfig,
} from 'drizzle-orm'
import { SelectionProxyHandler } from 'drizzle-orm/selection-proxy'
import type { TableName } from '../../model/index.js'
import type { SqlPiece } from '../../guard/index.js'
import { marked, piecesOf, type SqlSource } from '../pieces.js'

/** The columns of a view, for the compiler: what may be hidden is possibly `null`; a key never is. */
type ViewColumns<T extends Table> = {
  [K in keyof T['_']['columns']]: Hideable<T['_']['columns'][K]>
}

type Hideable<C extends Column> = C['_']['isPrimaryKey'] extends true
  ? C
  : Column<Extract<UpdateColConfig<C['_'], { notNull: false }>, ColumnBaseConfig<ColumnDataType, string>>>

/** A view in place of a table: what Drizzle knows as a subquery, with its columns. */
export type DrizzleView<T extends Table> = Subquery<T['_']['name'], ViewColumns<T>> & ViewColumns<T>

/**
 * A table as a caller sees it, for Drizzle: a subquery to select from or to join in place of the table. What the caller may
 * not see is `null` in it, and its columns are typed so.
 *
 * @param scoped the store as the caller may use it
 * @param table what the model calls it
 * @param as the Drizzle table, or an alias of it where the view is called otherwise
 * @throws {UnknownNameError} where there is no such table
 * @example
 * const e = drizzleView(guard.as(ana), 'entries', entries)
 * await db.select().from(e).where(eq(e.audience, 'public'))
 */
export function drizzleView<M, T extends Table>(scoped: SqlSource<M>, table: TableName<M>, as: T): DrizzleView<T> {
  const { text, values } = scoped.view(table, marked)
  // Drizzle has brackets of its own.
  const inside = chunk({ text: text.slice(1, -1), values })
  const alias = getTableName(as)
  // As Drizzle makes the subqueries of its own.
  const handler = new SelectionProxyHandler({ alias, sqlBehavior: 'error', sqlAliasedBehavior: 'alias' })
  return new Proxy(new Subquery(inside, getTableColumns(as), alias), handler) as unknown as DrizzleView<T>
}

/**
 * The condition on what a caller may read, for the `where` of a Drizzle query. It masks no fields.
 *
 * @param table what the model calls it
 * @param as the Drizzle table that the query selects from, or the alias of it
 * @example db.select({ id: entries.id }).from(entries).where(drizzleFilter(guard.as(ana), 'entries', entries))
 */
export function drizzleFilter<M>(scoped: SqlSource<M>, table: TableName<M>, as: Table): SQL<boolean> {
  return chunk(scoped.filter(table, 'read', { ...marked, alias: getTableName(as) }))
}

function chunk<T>(piece: SqlPiece): SQL<T> {
  const { strings, values } = piecesOf(piece)
  // A list is one value.
  const chunks = strings.flatMap((text, at) => [
    sql.raw(text),
    ...(at < values.length ? [sql`${sql.param(values[at])}`] : []),
  ])
  return sql.join(chunks) as SQL<T>
}
