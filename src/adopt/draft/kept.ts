import { isNever, isStorable, type Shape } from '../../model/index.js'
import type { CatalogueColumn, CatalogueTable } from '../catalogue/catalogue.js'

/** A table that will be in the model, with the columns that fields can hold. */
export interface Kept {
  readonly name: string
  readonly table: CatalogueTable
  readonly key: readonly string[]
  readonly columns: readonly (CatalogueColumn & { readonly shape: Shape })[]
  readonly remarks: readonly string[]
}

/** A table as a person finds it in the database. */
export const placeOf = ({ schema, name }: { readonly schema?: string; readonly name: string }): string =>
  schema === undefined ? name : `${schema}.${name}`

/** What of a table can be in a model, or why nothing can. */
export function keep(table: CatalogueTable): Omit<Kept, 'name' | 'table'> | { readonly why: string } {
  if (table.isClosed) return { why: 'may not be read by this user; grant SELECT on it, and adopt again' }
  if (!isStorable(table.name, 'table') || (table.schema !== undefined && !isStorable(table.schema, 'schema'))) {
    return { why: 'has a name that no statement here can write; make a view of it under another' }
  }
  const columns = table.columns.filter(
    (each): each is CatalogueColumn & { shape: Shape } => each.shape !== undefined && isStorable(each.name, 'column'),
  )
  const isPart = (name: string) => {
    const column = columns.find((each) => each.name === name)
    return column !== undefined && !isNever(column.shape, 'key') && column.filled !== 'computed'
  }
  const remarks = table.remarks ?? []
  if (table.key.length > 0) {
    const unfit = table.key.find((name) => !isPart(name))
    return unfit === undefined
      ? { key: table.key, columns, remarks }
      : { why: `has ${unfit} in its key, which no key here can hold` }
  }
  const isThere = (name: string) => columns.some((each) => each.name === name && !each.isOptional)
  const [other] = table.uniques.filter((names) => names.every((name) => isPart(name) && isThere(name)))
  if (other)
    return { key: other, columns, remarks: [...remarks, 'has no primary key; what is unique and never missing serves'] }
  const by = 'write it into the model, with key() on what tells its records apart'
  if (table.isView) return { why: `is a view, and nothing says what its key is; ${by}` }
  if (table.isInherited) {
    return { why: `has other tables inherit from it, in whose rows its keys can occur again; if they never do, ${by}` }
  }
  return { why: `has no key; give it a primary key, or ${by}` }
}
