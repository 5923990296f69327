import {
  canBeUnique,
  comparesAs,
  type FieldData,
  type ModelData,
  ownUniques,
  type Shape,
  storedField,
  storedTable,
  uniquesOf,
} from '../model/index.js'
import type { Catalogue, CatalogueColumn, CatalogueTable } from './catalogue/catalogue.js'
import { placeOf } from './draft/kept.js'

/** Something in which a model and its database are not of one mind. */
export interface Drift {
  /** The table of the model, with its field; or what the database calls it, where the model has none. */
  readonly what: string
  readonly is: string
}

/**
 * Compares a model with what its database says: tables and columns that are not there, types that are others, values that
 * may be missing, keys; and what is new in the database since it was last adopted. What a model leaves out on purpose is
 * no difference.
 *
 * @param model the model of the rules
 * @param now what the database says
 * @param then what it said when it was adopted; left out, nothing is known to be new
 */
export function driftOf(model: ModelData, now: Catalogue, then?: Catalogue): readonly Drift[] {
  const known = new Map(now.tables.map((table) => [idOf(table), table]))
  const named = new Map(Object.keys(model.tables).map((table) => [idOf(storedTable(model, table)), table]))
  const drifts = [...named].flatMap(([id, table]) => {
    const found = known.get(id)
    return found
      ? tableDrift(model, table, found)
      : [{ what: table, is: `is not in the database: there is no ${placeOf(storedTable(model, table))}` }]
  })
  return [...drifts, ...(then ? newIn(model, now, then, named) : [])]
}

const idOf = ({ schema, name }: { readonly schema?: string; readonly name: string }): string =>
  JSON.stringify([schema, name])

function tableDrift(model: ModelData, table: string, found: CatalogueTable): readonly Drift[] {
  const { fields, key } = model.tables[table] as ModelData['tables'][string]
  if (found.isClosed) return [{ what: table, is: 'may not be read by this user' }]
  const keys = key.map((name) => storedField(model, table, name)).sort()
  const isKey = [found.key, ...found.uniques].some((names) => [...names].sort().join('\0') === keys.join('\0'))
  return [
    ...(isKey || found.isView
      ? []
      : [{ what: table, is: `has another key in the database: ${found.key.join(', ') || 'none'}` }]),
    ...unsaidUniques(model, table, found),
    ...Object.entries(fields).flatMap(([name, field]) => {
      const column = found.columns.find((each) => each.name === storedField(model, table, name))
      const what = `${table}.${name}`
      if (!column)
        return [{ what, is: `is not in the database: ${placeOf(found)} has no ${storedField(model, table, name)}` }]
      return fieldDrift(model, table, name, field, column, found).map((is) => ({ what, is }))
    }),
  ]
}

/** What is unique in the database, and could be said to be so. */
function unsaidUniques(model: ModelData, table: string, found: CatalogueTable): readonly Drift[] {
  const { fields, key } = model.tables[table] as ModelData['tables'][string]
  const fieldAt = new Map(Object.keys(fields).map((name) => [storedField(model, table, name), name]))
  const named = found.uniques.map((names) => names.map((each) => fieldAt.get(each) ?? ''))
  const said = uniquesOf(model, table)
  return ownUniques(key, [...said, ...named])
    .filter((names) => !said.includes(names) && names.every((name) => canBeUnique(fields[name])))
    .map((names) => {
      const [name, ...within] = [...names].reverse()
      return {
        what: `${table}.${name}`,
        is: `is unique in the database; say unique(${within.map((each) => `'${each}'`).join(', ')})`,
      }
    })
}

function fieldDrift(
  { tables }: ModelData,
  table: string,
  name: string,
  field: FieldData,
  column: CatalogueColumn,
  found: CatalogueTable,
): readonly string[] {
  const isPart = tables[table]?.key.includes(name) === true
  const together = [name, ...(field.unique === true ? [] : (field.unique ?? []))]
  const unique = together.map((each) => storedField({ tables }, table, each)).sort()
  const isUnique = found.uniques.some((names) => [...names].sort().join('\0') === unique.join('\0'))
  const words = column.shape?.type === 'choice' ? (column.shape.choices ?? []) : undefined
  return [
    ...(column.shape && isHeld(field, column.shape)
      ? []
      : [`is of type ${field.type}, and ${column.type} in the database${column.remark ? `; ${column.remark}` : ''}`]),
    ...(words && field.type === 'choice' && !sameWords(words, field.choices ?? [])
      ? [`can be ${words.join(', ')} in the database, and ${(field.choices ?? []).join(', ')} in the model`]
      : []),
    ...(column.isOptional && !field.optional && !isPart && !found.isView
      ? ['may be missing in the database; say optional()']
      : []),
    ...(field.optional && !column.isOptional ? ['is never missing in the database, and optional in the model'] : []),
    ...(column.filled === 'computed' && field.filled !== 'computed' && !isPart
      ? ['is computed by the database; say computed()']
      : []),
    ...(field.filled && !field.generated && !column.filled && !column.isNumbered
      ? ['has no default in the database, and defaulted() in the model']
      : []),
    ...(field.unique && !isUnique
      ? [`is not unique in the database${together.length > 1 ? ` within ${together.slice(1).join(', ')}` : ''}`]
      : []),
  ]
}

/** Whether a field can hold what a column does: a text that is one of several words is a text as well. */
function isHeld(field: FieldData, shape: Shape): boolean {
  const isWhole = ({ type }: Shape) => type === 'integer' || type === 'bigInteger'
  if (isWhole(field) && isWhole(shape)) return true
  if (field.type === 'list') return shape.type === 'list' && (shape.item ?? 'text') === (field.item ?? 'text')
  return comparesAs(field) === comparesAs(shape)
}

const sameWords = (left: readonly string[], right: readonly string[]): boolean =>
  left.length === right.length && left.every((word) => right.includes(word))

function newIn(
  model: ModelData,
  now: Catalogue,
  then: Catalogue,
  named: ReadonlyMap<string, string>,
): readonly Drift[] {
  const before = new Map(then.tables.map((table) => [idOf(table), table]))
  return now.tables.flatMap((table) => {
    const [old, name] = [before.get(idOf(table)), named.get(idOf(table))]
    if (!old) return name === undefined ? [{ what: placeOf(table), is: 'is new in the database' }] : []
    if (name === undefined) return []
    const fields = Object.keys(model.tables[name]?.fields ?? {}).map((field) => storedField(model, name, field))
    return table.columns
      .filter((column) => !fields.includes(column.name) && !old.columns.some((each) => each.name === column.name))
      .map((column) => ({ what: `${name} (${column.name})`, is: `is new in the database, of type ${column.type}` }))
  })
}
