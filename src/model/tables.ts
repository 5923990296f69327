import { UnknownNameError } from './errors.js'
import type { FieldData } from './field.js'

/** Where a table's records are kept, as far as its own name does not say. */
export interface StoredTable {
  /** The schema it is in; on MariaDB a database, on SQLite an attached one. Left out, the connection's own. */
  readonly schema?: string
  /** What the database calls it. */
  readonly name?: string
}

/** A table as plain data. */
export interface TableData {
  /** The fields of the key, of which there is at least one. */
  readonly key: readonly [string, ...string[]]
  readonly fields: Readonly<Record<string, FieldData>>
  /** Where its records are kept, where its name does not say. */
  readonly stored?: StoredTable
}

/** A model as plain data, as it stands in a rulebook. */
export interface ModelData {
  readonly tables: Readonly<Record<string, TableData>>
}

/**
 * The table of that name.
 * @throws {UnknownNameError} where the model has none
 */
export function tableOf(model: ModelData, table: string): TableData {
  // A list of one name would do for that name.
  const found = typeof table === 'string' && Object.hasOwn(model.tables, table) ? model.tables[table] : undefined
  if (!found) throw new UnknownNameError('table', table, Object.keys(model.tables))
  return found
}

/** The fields of a table's key, with what they are. */
export function keyFieldsOf(model: ModelData, table: string): readonly (readonly [name: string, field: FieldData])[] {
  return tableOf(model, table).key.map((name) => [name, fieldOf(model, table, name)])
}

/**
 * The field of that name.
 * @throws {UnknownNameError} where the table has none
 */
export function fieldOf(model: ModelData, table: string, field: string): FieldData {
  const { fields } = tableOf(model, table)
  const found = typeof field === 'string' && Object.hasOwn(fields, field) ? fields[field] : undefined
  if (!found) throw new UnknownNameError('field', field, Object.keys(fields), table)
  return found
}
