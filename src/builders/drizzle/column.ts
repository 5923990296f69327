import type { Column } from 'drizzle-orm'
import { type Field, ModelError, parentName, references } from '../../model/index.js'
import { kindOf } from './kinds.js'
import type { SchemaTable } from './schema.js'

/** A column as the model has it. */
export interface ReadColumn {
  readonly name: string
  readonly column: Column
  /** None, where it is left out. */
  readonly field?: Field
  /** What has to be said of it, since types do not see it. */
  readonly toSay?: string
}

/** What some dialects have besides. */
interface Details {
  readonly autoIncrement?: boolean
  readonly hasOnUpdateNow?: boolean
}

/** Reads a column of a schema's table. */
export function readColumn(
  tables: readonly SchemaTable[],
  table: SchemaTable,
  name: string,
  column: Column,
  given: Field | null | undefined,
): ReadColumn {
  if (given === null) return { name, column }
  const kind = given ?? kindOf(column)
  if (kind === undefined) return { name, column }
  if (kind === 'unclear') return { name, column, toSay: `${name}: decimal(…) or null` }
  const isKey = table.key.includes(name)
  const target = targetOf(tables, table, name)
  const seen = given ? given.data.references : relationTarget(tables, table, name)
  assertAgrees(table, name, given, target)
  const leads = given ? seen : target
  const base: Field = leads === undefined ? kind : references(leads)
  const toSay = (!given && seen !== target) || (isKey && !column.primary && given?.data.key !== true)
  const field = marked(table, name, column, given ?? base)
  return {
    name,
    column,
    field: isKey ? field.key() : field,
    ...(toSay && { toSay: `${name}: ${written(base)}${isKey ? '.key()' : ''}` }),
  }
}

/** A field as a person would write it. */
const written = ({ data: { type, references: target } }: Field): string =>
  target === undefined
    ? `${type}(${['choice', 'decimal', 'list'].includes(type) ? '…' : ''})`
    : `references('${target}')`

/** The table a column leads to, by a foreign key or a relation, where it leads to a key. */
function targetOf(tables: readonly SchemaTable[], { leads }: SchemaTable, name: string): string | undefined {
  const to = leads.get(name)
  const isTo = (column: Column | undefined) =>
    column !== undefined && column.name === to?.name && column.table === to.table
  return tables.find(({ key: [only = '', ...more], columns }) => more.length === 0 && isTo(columns.get(only)))?.name
}

/** The table a column leads to as far as types see: they know the names of relations, and stored ones of tables. */
function relationTarget(tables: readonly SchemaTable[], { relations }: SchemaTable, name: string): string | undefined {
  const stored = relations.get(parentName(name))?.referencedTableName
  const [found, ...more] = tables.filter((each) => each.stored.name === stored)
  // Two of a name look like either to types.
  return more.length === 0 ? found?.name : undefined
}

function assertAgrees(table: SchemaTable, name: string, given: Field | undefined, target: string | undefined): void {
  const { references: said, key } = given?.data ?? {}
  if (said !== undefined && target !== undefined && said !== target)
    throw new ModelError(`In the schema, ${table.name}.${name} leads to ${target}; fields has it lead to ${said}.`)
  if (key && table.key.length > 0 && !table.key.includes(name))
    throw new ModelError(`In the schema, the key of ${table.name} is ${table.key.join(', ')}; fields adds ${name}.`)
}

/** A field with what the schema says of its column besides. */
function marked(table: SchemaTable, name: string, column: Column, base: Field): Field {
  const isKey = table.key.includes(name) || base.data.key === true
  let field = base
  if (!isKey && !column.notNull) field = field.optional()
  const fills = filledIn(column)
  if (!isKey) return fills === 'computed' ? field.computed() : fills === 'default' ? field.defaulted() : field
  const isMade = base.data.type === 'uuid' && (fills === 'default' || column.defaultFn !== undefined)
  return table.key.length <= 1 && (isNumbered(column) || isMade) ? field.generated() : field
}

/** Whether the database numbers new records in a column, where it is the key. */
const isNumbered = (column: Column): boolean =>
  column.generatedIdentity !== undefined ||
  /Serial/.test(column.columnType) ||
  (column as Details).autoIncrement === true ||
  (column.columnType === 'SQLiteInteger' && column.primary)

function filledIn(column: Column): 'default' | 'computed' | undefined {
  const isNeverGiven = column.generated !== undefined || column.generatedIdentity?.type === 'always'
  if (isNeverGiven || (column as Details).hasOnUpdateNow) return 'computed'
  return column.default !== undefined || isNumbered(column) ? 'default' : undefined
}
