import { type ModelData, storedField, storedTable } from '../model/index.js'
import type { Dialect } from './dialect.js'
import { type Fragment, join, sql, textSlot } from './fragment.js'

/** What has to be known to write a name of the model: whatever names a table or a column goes through here. */
export interface Names {
  readonly dialect: Pick<Dialect, 'identifier'>
  readonly rulebook: { readonly model: ModelData }
}

/** A table by what the database calls it, quoted. */
export const placeNamed = (
  { identifier }: Names['dialect'],
  { schema, name }: { readonly schema?: string; readonly name: string },
): string => (schema === undefined ? identifier(name) : `${identifier(schema)}.${identifier(name)}`)

/** A table as statements name it: as the database calls it, quoted. */
export const tableNamed = ({ dialect, rulebook }: Names, table: string): string =>
  placeNamed(dialect, storedTable(rulebook.model, table))

/** A column as statements name it, quoted. */
export const columnNamed = ({ dialect, rulebook }: Names, table: string, field: string): string =>
  dialect.identifier(storedField(rulebook.model, table, field))

/** Schemas as values, for what tells of the tables in them and in the connection's own. */
export function schemasIn(schemas: readonly string[]): Fragment {
  const values = schemas.map(textSlot)
  return values.length > 0 ? join(values, ', ') : sql`NULL`
}

/**
 * By what is known of a table or a column of the database. Not every database tells names apart by case; where two only
 * differ in that, what is known of one holds of both.
 */
export const placeOf = (schema: string | undefined, table: string, column = ''): string =>
  JSON.stringify([schema, table, column]).toLowerCase()

/** By what is known of a field of the model. */
export function placeOfField(model: ModelData, table: string, field: string): string {
  const { schema, name } = storedTable(model, table)
  return placeOf(schema, name, storedField(model, table, field))
}
