import { assertKnown, ModelError } from './errors.js'
import type { Field, FieldData } from './field.js'
import { childrenOf, parentsOf } from './relations.js'
import { show } from './show.js'
import { checkStored, conventional, type Naming, NAMINGS } from './stored.js'
import { type ModelData, type StoredTable, type TableData, tableOf } from './tables.js'
import { checkUniques } from './uniques.js'
import { isFillable, misshapen, isNever } from './values.js'

/** What `defineModel` takes: field builders by table and name. */
export type Tables = Readonly<Record<string, Readonly<Record<string, Field>>>>

declare const TABLES: unique symbol

/** A model that also remembers, for the compiler, the types of its tables. */
export interface Model<T extends Tables = Tables> extends ModelData {
  readonly [TABLES]?: T
}

/** What a reference has to lead to: a table that is there. */
type Referenced<T> = {
  readonly [K in keyof T]: {
    readonly [F in keyof T[K]]: T[K][F] extends Field<unknown, boolean, infer R, boolean>
      ? R extends keyof T | null
        ? unknown
        : { readonly references: keyof T }
      : unknown
  }
}

/** How a model's tables are stored, where that is not what their names say. */
export interface Storage<T> {
  /** How the database writes names that are not given here or with `storedAs`; left out, as the model does. */
  readonly naming?: Naming
  /** The schema that all tables are in which name none; left out, the connection's own. */
  readonly schema?: string
  /** What the database calls a table, and the schema it is in. */
  readonly tables?: { readonly [K in keyof T]?: string | StoredTable }
}

const NAME = /^[A-Za-z][A-Za-z0-9_]{0,62}$/

/**
 * Describes the tables an app has: their fields, the fields' types and the references between them.
 *
 * @param tables field builders by table and field name; names are 1 to 63 letters, digits and `_`
 * @param storage how the database calls them, where that is not the same
 * @returns the model as frozen plain data, typed
 * @throws {ModelError} where a name is not allowed, a table has no key, a key is optional,
 *   a reference leads to no table or to one with a composite key, or two are stored in the same place
 * @example
 * const model = defineModel({
 *   members: { id: integer().key().generated(), name: text() },
 *   plots: { id: integer().key().generated(), holderId: references('members').optional() },
 * })
 * @example
 * defineModel({ plots: { id: integer().key(), holderId: text().storedAs('Holder') } }, {
 *   naming: 'snakeCase',
 *   tables: { plots: { schema: 'garden', name: 'plot' } },
 * })
 */
export function defineModel<const T extends Tables>(
  tables: T & Referenced<T>,
  storage: Storage<NoInfer<T>> = {},
): Model<T> {
  assertKnown('option', storage, ['naming', 'schema', 'tables'], 'defineModel')
  const { naming = 'asWritten' } = storage
  if (!NAMINGS.includes(naming)) throw new ModelError(`naming is ${show(naming)}; it must be ${NAMINGS.join(' or ')}.`)
  for (const name of Object.keys(storage.tables ?? {})) tableOf({ tables: tables as never }, name)
  const data: Record<string, TableData> = {}
  for (const [name, builders] of Object.entries<Tables[string]>(tables)) {
    assertName('table', name)
    const fields: Record<string, FieldData> = {}
    for (const [fieldName, builder] of Object.entries(builders)) {
      assertName('field', fieldName, name)
      if (!builder?.data)
        throw new ModelError(`${name}.${fieldName} is ${show(builder)}, and no field; write one, such as text().`)
      fields[fieldName] = storedBy(naming, fieldName, builder.data)
    }
    const key = Object.keys(fields).filter((each) => fields[each]?.key)
    // That there is one is checked with the rest.
    data[name] = { key: key as unknown as TableData['key'], fields, ...placeOf(name, storage) }
  }
  return checkModel({ tables: mapValues(data, (table) => resolveReferences(data, table)) }) as Model<T>
}

function storedBy(naming: Naming, name: string, field: FieldData): FieldData {
  const stored = field.stored ?? conventional(naming, name)
  return stored === name ? field : { ...field, stored }
}

function placeOf(
  table: string,
  { naming = 'asWritten', schema, tables = {} }: Storage<Tables>,
): Pick<TableData, 'stored'> {
  const said = Object.hasOwn(tables, table) ? tables[table] : undefined
  const place = typeof said === 'string' ? { name: said } : said
  const name = place?.name ?? conventional(naming, table)
  const stored = { ...(schema !== undefined && { schema }), ...place, ...(name !== table && { name }) }
  return Object.keys(stored).length > 0 ? { stored } : {}
}

/** Checks a model that is already plain data, such as one read from a rulebook file, and freezes it. */
export function checkModel(model: ModelData): ModelData {
  for (const [name, table] of Object.entries(model.tables)) {
    assertName('table', name)
    if (table.key[0] === undefined) throw new ModelError(`The table ${name} has no key; mark a field with key().`)
    const marked = Object.keys(table.fields).filter((each) => table.fields[each]?.key)
    if (marked.join() !== table.key.join()) throw new ModelError(`The key of ${name} is not made of its key fields.`)
    for (const [fieldName, field] of Object.entries(table.fields)) {
      assertName('field', fieldName, name)
      assertField(model, `${name}.${fieldName}`, field)
    }
    checkUniques(name, table)
  }
  for (const name of Object.keys(model.tables)) assertRelationNames(model, name)
  checkStored(model)
  return deepFreeze(model)
}

/** Whether something can be named so: all that is named so can be told apart, however names are put together. */
export const isName = (name: string): boolean => NAME.test(name) && !(name in Object.prototype)

function assertName(kind: string, name: string, where?: string): void {
  if (isName(name)) return
  throw new ModelError(
    `${show(name)}${where ? ` in ${where}` : ''} cannot name a ${kind}: ` +
      'a name is a letter followed by at most 62 letters, digits or underscores, and no word every object has, such as constructor.',
  )
}

/** What rows have besides fields and relations. */
const WORDS_OF_ROWS = {
  may: "row.may('read') asks about permission",
  chain: "row.chain('parentId') asks about what is above a record",
}

/** What conditions call a field, a record referred to, or the records that refer here, has to be one of them only. */
function assertRelationNames(model: ModelData, table: string): void {
  const taken = new Map(Object.keys(tableOf(model, table).fields).map((name) => [name, `the field ${name}`]))
  taken.set('may', 'what asks about permission')
  taken.set('chain', 'what is above a record')
  for (const [word, asks] of Object.entries(WORDS_OF_ROWS)) {
    if (Object.hasOwn(tableOf(model, table).fields, word))
      throw new ModelError(`${table}.${word} cannot be a field: ${asks}.`)
  }
  const claim = (name: string, what: string) => {
    const other = taken.get(name)
    if (other !== undefined && other !== what) {
      throw new ModelError(`In conditions on ${table}, row.${name} would be both ${other} and ${what}; rename one.`)
    }
    taken.set(name, what)
  }
  for (const { name, from } of parentsOf(model, table)) claim(name, `the record that ${from} refers to`)
  for (const { name } of childrenOf(model, table)) claim(name, `the records of ${name}`)
}

function assertField(model: ModelData, place: string, field: FieldData): void {
  if (field.key && field.optional) throw new ModelError(`${place} is part of the key and cannot be optional.`)
  const problem = misshapen(field)
  if (problem !== undefined) throw new ModelError(`${place} ${problem}.`)
  if (isNever(field, 'key') && field.key) {
    throw new ModelError(`${place} is of type ${field.type}, which cannot be part of a key.`)
  }
  if (field.generated && !isFillable(field)) {
    throw new ModelError(`${place} is generated and has to be a whole number or a uuid.`)
  }
  if (field.filled && field.generated) throw new ModelError(`${place} is generated; it has no other default besides.`)
  if (field.filled && field.key) throw new ModelError(`${place} is part of the key, which only generated() fills in.`)
  if (field.references !== undefined) {
    const key = referencedKey(model.tables, place, field.references)
    const { type, scale } = tableOf(model, field.references).fields[key] as FieldData
    if (type !== field.type || scale !== field.scale) {
      throw new ModelError(`${place} is of another type than ${field.references}.${key}, which it refers to.`)
    }
  }
}

function referencedKey(tables: ModelData['tables'], place: string, target: string): string {
  const table = Object.hasOwn(tables, target) ? tables[target] : undefined
  if (!table) {
    throw new ModelError(
      `${place} refers to the table ${show(target)}, which the model does not have; ` +
        `there is ${Object.keys(tables).join(', ')}.`,
    )
  }
  const [key, ...more] = table.key
  if (key === undefined || more.length > 0) {
    throw new ModelError(`${place} refers to ${target}, which has no single key field to refer to.`)
  }
  return key
}

function resolveReferences(tables: Record<string, TableData>, table: TableData): TableData {
  const resolve = (field: FieldData, name: string, depth: number): FieldData => {
    if (field.references === undefined) return field
    const key = referencedKey(tables, name, field.references)
    const target = tables[field.references]?.fields[key]
    if (!target || depth > Object.keys(tables).length) {
      throw new ModelError(`${name} refers to itself in a circle of keys.`)
    }
    const { type, choices, item, scale } = resolve(target, name, depth + 1)
    return { ...field, type, ...(choices && { choices }), ...(item && { item }), ...(scale && { scale }) }
  }
  return { ...table, fields: mapValues(table.fields, (field, name) => resolve(field, name, 0)) }
}

function mapValues<A, B>(record: Readonly<Record<string, A>>, change: (value: A, key: string) => B): Record<string, B> {
  return Object.fromEntries(Object.entries(record).map(([key, value]) => [key, change(value, key)]))
}

/** Freezes plain data all the way down. */
export function deepFreeze<T extends object>(data: T): T {
  if (Object.isFrozen(data)) return data
  Object.freeze(data)
  for (const value of Object.values(data)) {
    if (typeof value === 'object' && value !== null) deepFreeze(value as object)
  }
  return data
}
