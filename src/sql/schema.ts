import { placeholderFor, writerFor } from './stored.js'
import {
  type FieldData,
  fieldOf,
  isMissing,
  type ModelData,
  numbersUpTo,
  schemasOf,
  storedField,
  storedTable,
  type TableData,
  tableOf,
  uniquesOf,
  type Value,
} from '../model/index.js'
import type { Dialect, Traits } from './dialect.js'
import { columnNamed, type Names, tableNamed } from './names.js'
import { markOf } from './statement.js'
import { hasTrait, NO_TRAITS } from './traits.js'

/**
 * The statements that create a model's tables in an empty database, with keys and an index on each reference.
 * For demos and tests; an app's own migrations know better.
 */
export function createTables(model: ModelData, dialect: Dialect): readonly string[] {
  const names = { dialect, rulebook: { model } }
  const schemas = schemasOf(model).map((schema) => dialect.createSchema(dialect.identifier(schema)))
  const tables = Object.entries(model.tables).flatMap(([name, table]) => {
    const { fields, key } = table
    const quote = (field: string) => columnNamed(names, name, field)
    const numbersItself = dialect.name === 'sqlite' && isNumbered(table)
    const uniques = uniquesOf(model, name).filter((together) => together.length > 1)
    const isUnique = (field: string) => uniques.some((together) => together.includes(field))
    const columns = Object.entries(fields).map(([field, own]) => {
      const data: FieldData = isUnique(field) ? { ...own, unique: true } : own
      const rest = numbersItself && data.key ? ' PRIMARY KEY' : data.optional ? '' : ' NOT NULL'
      return `${quote(field)} ${dialect.types[data.type].column(data)}${rest}${own.unique === true && !own.key ? ' UNIQUE' : ''}`
    })
    const primary = numbersItself ? [] : [`PRIMARY KEY (${key.map(quote).join(', ')})`]
    const together = uniques.map((each) => `UNIQUE (${each.map(quote).join(', ')})`)
    const indexed = Object.keys(fields).filter((field) => isIndexed(table, field))
    return [
      `CREATE TABLE ${tableNamed(names, name)} (${[...columns, ...primary, ...together].join(', ')})`,
      ...indexed.map((field) => createIndex({ ...names, traits: NO_TRAITS }, name, field)),
    ]
  })
  return [...schemas, ...tables]
}

/** The statement that creates an index on a field, called after table and field. */
export function createIndex(
  names: Names & { readonly dialect: Dialect; readonly traits: Traits },
  table: string,
  field: string,
): string {
  const { dialect, rulebook } = names
  const index = dialect.identifier(`${table}_${field}`)
  const column = columnNamed(names, table, field)
  const shape = fieldOf(rulebook.model, table, field)
  const on = `(${dialect.indexed?.(column, shape, hasTrait(names, table, field, 'long')) ?? column})`
  const { schema, name } = storedTable(rulebook.model, table)
  // SQLite has the schema of an index before its own name.
  return dialect.name === 'sqlite' && schema !== undefined
    ? `CREATE INDEX ${dialect.identifier(schema)}.${index} ON ${dialect.identifier(name)} ${on}`
    : `CREATE INDEX ${index} ON ${tableNamed(names, table)} ${on}`
}

function isNumbered({ fields, key }: TableData): boolean {
  const field = fields[key[0]] as FieldData
  return key.length === 1 && field.generated === true && numbersUpTo(field) !== undefined
}

const isIndexed = ({ fields, key }: TableData, field: string): boolean =>
  (fields[field] as FieldData).references !== undefined && field !== key[0]

/** A statement that inserts a record as it is, without asking any rule, with its values. */
export function insertRecord(
  model: ModelData,
  dialect: Dialect,
  table: string,
  record: Readonly<Record<string, unknown>>,
): { readonly text: string; readonly values: readonly unknown[] } {
  const { fields } = tableOf(model, table)
  const present = Object.entries(fields).filter(
    ([name, { filled }]) => filled !== 'computed' && !isMissing(record[name]),
  )
  const names = { dialect, rulebook: { model } }
  const columns = present.map(([name]) => columnNamed(names, table, name)).join(', ')
  const places = present.map(([, field], at) => placeholderFor(dialect, markOf(dialect)(at + 1), field)).join(', ')
  return {
    text: `INSERT INTO ${tableNamed(names, table)} (${columns}) VALUES (${places})`,
    values: present.map(([name, field]) => writerFor(dialect, field)(record[name] as Value)),
  }
}

/**
 * The statement after which the database numbers new records from the highest number there is, where records were
 * stored with numbers of their own; none where it does so by itself, or does not number this table's records.
 */
export function resumeNumbers(model: ModelData, dialect: Dialect, table: string): string | undefined {
  const data = tableOf(model, table)
  if (!isNumbered(data)) return undefined
  return dialect.numberOn?.(tableNamed({ dialect, rulebook: { model } }, table), storedField(model, table, data.key[0]))
}
