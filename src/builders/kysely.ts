import { type RawBuilder, sql, type SqlBool } from 'kysely'
import type { TableName } from '../model/index.js'
import type { SqlPiece } from '../guard/index.js'
import { marked, piecesOf, type SqlSource, type ViewRecord } from './pieces.js'

export type { ViewRecord } from './pieces.js'

/**
 * A table as a caller sees it, for Kysely: to select from or to join, under a name of its own.
 *
 * @param scoped the store as the caller may use it
 * @returns an expression to call `as` on; what may be hidden is typed as possibly `null`, and values come as the driver
 *   returns them
 * @throws {UnknownNameError} where there is no such table
 * @example
 * const entries = kyselyView(guard.as(ana), 'entries')
 * await db.selectFrom(entries.as('e')).select(['e.id', 'e.title']).where('e.audience', '=', 'public').execute()
 */
export function kyselyView<M, T extends TableName<M>>(scoped: SqlSource<M>, table: T): RawBuilder<ViewRecord<M, T>> {
  return expression(scoped.view(table, marked))
}

/**
 * The condition on what a caller may read, for the `where` of a Kysely query.
 *
 * @param alias what the table is called in that query
 * @example db.selectFrom('entries as e').selectAll('e').where(kyselyFilter(guard.as(ana), 'entries', 'e'))
 */
export function kyselyFilter<M>(scoped: SqlSource<M>, table: TableName<M>, alias: string): RawBuilder<SqlBool> {
  return expression(scoped.filter(table, 'read', { ...marked, alias }))
}

function expression<T>(piece: SqlPiece): RawBuilder<T> {
  const { strings, values } = piecesOf(piece)
  return sql<T>(strings as unknown as TemplateStringsArray, ...values)
}
