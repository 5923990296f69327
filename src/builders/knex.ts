import type { Knex } from 'knex'
import type { TableName } from '../model/index.js'
import type { SqlPiece } from '../guard/index.js'
import { marked, piecesOf, type SqlSource } from './pieces.js'

export type { ViewRecord } from './pieces.js'

/**
 * A table as a caller sees it, for Knex: to select from or to join.
 *
 * @param knex what makes raw expressions: the Knex instance, or a transaction of it
 * @param scoped the store as the caller may use it
 * @param alias what it is called in the query
 * @throws {UnknownNameError} where there is no such table
 * @example
 * const entries = knexView(knex, guard.as(ana), 'entries', 'e')
 * await knex.from<ViewRecord<typeof model, 'entries'>>(entries).where('e.audience', 'public')
 */
export function knexView<M>(knex: Knex, scoped: SqlSource<M>, table: TableName<M>, alias: string): Knex.Raw {
  const { text, values } = raw(scoped.view(table, marked))
  return knex.raw(`${text} as ??`, [...values, alias] as Knex.RawBinding[])
}

/**
 * The condition on what a caller may read, for the `where` of a Knex query.
 *
 * @param alias what the table is called in that query
 * @example await knex('entries as e').where(knexFilter(knex, guard.as(ana), 'entries', 'e'))
 */
export function knexFilter<M>(knex: Knex, scoped: SqlSource<M>, table: TableName<M>, alias: string): Knex.Raw {
  const { text, values } = raw(scoped.filter(table, 'read', { ...marked, alias }))
  return knex.raw(text, values as Knex.RawBinding[])
}

function raw(piece: SqlPiece): SqlPiece {
  const { strings, values } = piecesOf(piece)
  // What the database calls something may have a mark in it.
  return { text: strings.map((text) => text.replaceAll('?', '\\?')).join('?'), values }
}
