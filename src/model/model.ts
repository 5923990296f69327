import { ModelError, UnknownNameError } from './errors.js'
import type { Field, FieldData } from './field.js'
import { accepts } from './values.js'

/** A table as plain data. */
export interface TableData {
  readonly key: readonly string[]
  readonly fields: Readonly<Record<string, FieldData>>
}

/** A model as plain data, as it stands in a rulebook. */
export interface ModelData {
  readonly tables: Readonly<Record<string, TableData>>
}

/** What `defineModel` takes: field builders by table and name. */
export type Tables = Readonly<Record<string, Readonly<Record<string, Field>>>>

declare const TABLES: unique symbol

/** A model that also remembers, for the compiler, the types of its tables. */
export interface Model<T extends Tables = Tables> extends ModelData {
  readonly [TABLES]?: T
}

const NAME = /^[A-Za-z][A-Za-z0-9_]{0,62}$/

/**
 * Describes the tables an app has: their fields, the fields' types and the references between them.
 *
 * @param tables field builders by table and field name; names are 1 to 63 letters, digits and `_`
 * @returns the model as frozen plain data, typed
 * @throws {ModelError} where a name is not allowed, a table has no key, a key is optional,
 *   or a reference leads to no table or to one with a composite key
 * @example
 * const model = defineModel({
 *   members: { id: integer().key().generated(), name: text() },
 *   plots: { id: integer().key().generated(), holderId: references('members').optional() },
 * })
 */
export function defineModel<const T extends Tables>(tables: T): Model<T> {
  const data: Record<string, TableData> = {}
  for (const [name, builders] of Object.entries(tables)) {
    assertName('table', name)
    const fields: Record<string, FieldData> = {}
    for (const [fieldName, builder] of Object.entries(builders)) {
      assertName('field', fieldName, name)
      fields[fieldName] = builder.data
    }
    data[name] = { key: Object.keys(fields).filter((each) => fields[each]?.key), fields }
  }
  return checkModel({ tables: mapValues(data, (table) => resolveReferences(data, table)) }) as Model<T>
}

/** Checks a model that is already plain data, such as one read from a rulebook file, and freezes it. */
export function checkModel(model: ModelData): ModelData {
  for (const [name, table] of Object.entries(model.tables)) {
    assertName('table', name)
    if (table.key.length === 0) throw new ModelError(`The table ${name} has no key; mark a field with key().`)
    for (const [fieldName, field] of Object.entries(table.fields)) {
      assertName('field', fieldName, name)
      assertField(model, `${name}.${fieldName}`, field)
    }
  }
  return deepFreeze(model)
}

function assertName(kind: string, name: string, where?: string): void {
  if (NAME.test(name) && !(name in Object.prototype)) return
  throw new ModelError(
    `${JSON.stringify(name)}${where ? ` in ${where}` : ''} cannot name a ${kind}: ` +
      'a name is a letter followed by at most 62 letters, digits or underscores, and no word every object has, such as constructor.',
  )
}

function assertField(model: ModelData, place: string, field: FieldData): void {
  if (field.key && field.optional) throw new ModelError(`${place} is part of the key and cannot be optional.`)
  if (field.type === 'choice') {
    const choices = field.choices ?? []
    if (choices.length === 0 || !choices.every((each) => accepts({ type: 'text' }, each))) {
      throw new ModelError(`${place} is a choice and needs at least one word to choose from.`)
    }
  }
  if (
    field.type === 'decimal' &&
    !(Number.isInteger(field.scale) && Number(field.scale) >= 1 && Number(field.scale) <= 17)
  ) {
    throw new ModelError(`${place} is a decimal and needs 1 to 17 digits behind the point.`)
  }
  if (field.references !== undefined) referencedKey(model.tables, place, field.references)
}

function referencedKey(tables: ModelData['tables'], place: string, target: string): string {
  const table = Object.hasOwn(tables, target) ? tables[target] : undefined
  if (!table) {
    throw new ModelError(
      `${place} refers to the table ${JSON.stringify(target)}, which the model does not have; ` +
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

/**
 * The table of that name.
 * @throws {UnknownNameError} where the model has none
 */
export function tableOf(model: ModelData, table: string): TableData {
  const found = Object.hasOwn(model.tables, table) ? model.tables[table] : undefined
  if (!found) throw new UnknownNameError('table', table, Object.keys(model.tables))
  return found
}

/**
 * The field of that name.
 * @throws {UnknownNameError} where the table has none
 */
export function fieldOf(model: ModelData, table: string, field: string): FieldData {
  const { fields } = tableOf(model, table)
  const found = Object.hasOwn(fields, field) ? fields[field] : undefined
  if (!found) throw new UnknownNameError('field', field, Object.keys(fields), table)
  return found
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
