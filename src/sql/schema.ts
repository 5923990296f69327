import { isMissing, type ModelData, tableOf, type Value } from '../model/index.js'
import type { Dialect } from './dialect.js'

/**
 * The statements that create a model's tables in an empty database, with keys and an index on each reference.
 * For demos and tests; an app's own migrations know better.
 */
export function createTables(model: ModelData, dialect: Dialect): readonly string[] {
  return Object.entries(model.tables).flatMap(([name, { fields, key }]) => {
    const quote = dialect.identifier
    const columns = Object.entries(fields).map(
      ([field, data]) => `${quote(field)} ${dialect.columnType(data)}${data.optional ? '' : ' NOT NULL'}`,
    )
    const primary = `PRIMARY KEY (${key.map(quote).join(', ')})`
    const indexes = Object.keys(fields).filter((field) => fields[field]?.references && field !== key[0])
    return [
      `CREATE TABLE ${quote(name)} (${[...columns, primary].join(', ')})`,
      ...indexes.map((field) => `CREATE INDEX ON ${quote(name)} (${quote(field)})`),
    ]
  })
}

/** A statement that inserts a record as it is, without asking any rule, with its values. */
export function insertRecord(
  model: ModelData,
  dialect: Dialect,
  table: string,
  record: Readonly<Record<string, unknown>>,
): { readonly text: string; readonly values: readonly unknown[] } {
  const { fields } = tableOf(model, table)
  const present = Object.entries(fields).filter(([name]) => !isMissing(record[name]))
  const names = present.map(([name]) => dialect.identifier(name)).join(', ')
  const places = present.map(([, field], at) => dialect.placeholder(at + 1, field)).join(', ')
  return {
    text: `INSERT INTO ${dialect.identifier(table)} (${names}) VALUES (${places})`,
    values: present.map(([name, field]) => dialect.toDriver(field, record[name] as Value)),
  }
}
