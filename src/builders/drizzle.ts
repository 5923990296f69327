import {
  type Column,
  getTableColumns,
  getTableName,
  type GetColumnData,
  type SQL,
  sql,
  Subquery,
  type Table,
} from 'drizzle-orm'
import type { TableName } from '../model/index.js'
import type { SqlPiece } from '../guard/index.js'
import { marked, piecesOf, type SqlSource } from './pieces.js'

/** The columns of a view: all may be hidden, and are `null` then. */
export type ViewColumns<T extends Table> = {
  [K in keyof T['_']['columns']]: SQL<GetColumnData<T['_']['columns'][K]> | null>
}

/**
 * A table as a caller sees it, for Drizzle: to select from or to join, in place of the table or an alias of it.
 *
 * @param scoped the store as the caller may use it
 * @param table what the model calls it
 * @param as the Drizzle table, or an alias of it: whatever names columns of that goes on working
 * @throws {UnknownNameError} where there is no such table
 * @example
 * const e = alias(entries, 'e')
 * await db.select(drizzleColumns(e)).from(drizzleView(guard.as(ana), 'entries', e)).where(eq(e.audience, 'public'))
 */
export function drizzleView<M, T extends Table>(
  scoped: SqlSource<M>,
  table: TableName<M>,
  as: T,
): Subquery<T['_']['name'], T['_']['columns']> {
  const { text, values } = scoped.view(table, marked)
  // Drizzle has brackets of its own.
  const inside = chunk({ text: text.slice(1, -1), values })
  return new Subquery(inside, getTableColumns(as), getTableName(as)) as Subquery<T['_']['name'], T['_']['columns']>
}

/**
 * All columns of a Drizzle table, typed as a view has them: with `null` for what may be hidden.
 *
 * @param of the Drizzle table, or the alias that a view stands for
 * @example db.select(drizzleColumns(e)).from(drizzleView(guard.as(ana), 'entries', e))
 */
export function drizzleColumns<T extends Table>(of: T): ViewColumns<T> {
  const columns = Object.entries<Column>(getTableColumns(of)).map(([name, column]) => [
    name,
    sql`${column}`.mapWith(column),
  ])
  return Object.fromEntries(columns) as ViewColumns<T>
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
