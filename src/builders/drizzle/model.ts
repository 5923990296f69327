import type { Column } from 'drizzle-orm'
import { toCamelCase, toSnakeCase } from 'drizzle-orm/casing'
import {
  canBeUnique,
  defineModel,
  type Field,
  ModelError,
  ownUniques,
  type Tables,
  uniqueMarks,
  UnknownNameError,
} from '../../model/index.js'
import { readColumn } from './column.js'
import type { ModelIn, Said, Schema } from './infer.js'
import { type SchemaTable, tablesIn } from './schema.js'

/** How a model is made of a Drizzle schema. */
export interface DrizzleModelOptions<O> {
  /** What `drizzle()` is told of columns without a name of their own. */
  readonly casing?: 'snake_case' | 'camelCase'
  /**
   * Fields by table and column, where the schema's types do not tell what the field is: where a column leads, a key of
   * several columns, a type of one's own. `null` leaves a column out.
   */
  readonly fields?: O
}

const CASINGS = { snake_case: toSnakeCase, camelCase: toCamelCase } as const

/**
 * The model of a Drizzle schema: its tables and columns by the names the schema's file has for them, with types, keys,
 * references and stored names. Columns of types that no field holds, and views, are not in it.
 *
 * Types see where a column leads by `relations()`, where the relation is called as rules call it (`plot` for `plotId`); what
 * else the schema says and types do not see, such as the target of a foreign key, is to be said in `fields`, and an error
 * says what.
 *
 * @param schema all that the schema's file exports
 * @returns the model, as `defineModel` makes it; values are as its fields have them, whatever Drizzle makes of them
 * @throws {ModelError} where types do not see what the schema says, `fields` contradicts it, or the model cannot be
 * @throws {UnknownNameError} where `fields` has a table or a column that the schema has not
 * @example
 * import * as schema from './schema.js'
 *
 * export const model = drizzleModel(schema, {
 *   fields: { plots: { holderId: references('members') }, members: { passwordHash: null } },
 * })
 */
export function drizzleModel<const S extends Schema, const O extends Said<S> = Record<never, never>>(
  schema: S,
  { casing, fields: said = {} as O }: DrizzleModelOptions<O> = {},
): ModelIn<S, O> {
  const tables = tablesIn(schema)
  const unseen: string[] = []
  const fields: Record<string, Record<string, Field>> = {}
  for (const table of tables) {
    const given = givenFor(said, table)
    const columns = [...table.columns].map(([name, column]) => readColumn(tables, table, name, column, given(name)))
    const missing = columns.flatMap(({ toSay }) => toSay ?? [])
    if (missing.length > 0) unseen.push(`${table.name}: { ${missing.join(', ')} }`)
    fields[table.name] = withUniques(
      table,
      Object.fromEntries(
        columns.flatMap(({ name, column, field }) =>
          field ? [[name, stored(field, name, storedName(column, casing))]] : [],
        ),
      ),
    )
  }
  assertTables(said, tables)
  if (unseen.length > 0)
    throw new ModelError(
      `Types do not see all that the schema says; say it to drizzleModel, too: fields: { ${unseen.join(', ')} }.`,
    )
  const places = Object.fromEntries(
    tables.flatMap(({ name, stored: place }) => (place.name === name && !place.schema ? [] : [[name, place]])),
  )
  return defineModel(fields as Tables, { tables: places }) as unknown as ModelIn<S, O>
}

function assertTables(said: object, tables: readonly SchemaTable[]): void {
  const names = tables.map(({ name }) => name)
  const other = Object.keys(said).find((name) => !names.includes(name))
  if (other !== undefined) throw new UnknownNameError('table', other, names)
}

/** What is said of each column of a table. */
function givenFor(said: object, { name, columns }: SchemaTable): (column: string) => Field | null | undefined {
  const given = new Map(Object.entries<Field | null>((said as Record<string, never>)[name] ?? {}))
  const other = [...given.keys()].find((each) => !columns.has(each))
  if (other !== undefined) throw new UnknownNameError('column', other, [...columns.keys()], name)
  return (column) => given.get(column)
}

/** The fields, each with what it is unique within. */
function withUniques({ uniques }: SchemaTable, fields: Readonly<Record<string, Field>>): Record<string, Field> {
  const key = Object.keys(fields).filter((name) => fields[name]?.data.key)
  const marks = uniqueMarks(ownUniques(key, uniques), (name) => canBeUnique(fields[name]?.data))
  return Object.fromEntries(
    Object.entries(fields).map(([name, field]) => {
      const within = field.data.unique ? undefined : marks.get(name)
      return [name, within ? field.unique(...within) : field]
    }),
  )
}

/** A field with its name in the database, where that is another and nobody has said one. */
const stored = (field: Field, name: string, column: string): Field =>
  field.data.stored !== undefined || column === name ? field : field.storedAs(column)

const storedName = ({ name, keyAsName }: Column, casing: DrizzleModelOptions<unknown>['casing']): string =>
  keyAsName && casing !== undefined ? CASINGS[casing](name) : name
