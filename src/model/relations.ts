import { ModelError, UnknownNameError } from './errors.js'
import { type ModelData, tableOf } from './tables.js'

/** A step from a record to others: up to the one it refers to, or down to those that refer to it. */
export interface Relation {
  /** How conditions call it: `plot` for the field `plotId`, `entryShares` for the table that refers back. */
  readonly name: string
  /** The table the step leads to. */
  readonly table: string
  /** The field on the side the step starts from. */
  readonly from: string
  /** The field on the side it leads to, with the same value. */
  readonly to: string
  /** Whether it leads to one record at most. */
  readonly one: boolean
}

/** `plotId` and `plot_id` lead to `plot`; any other reference field to its own name with `Record` behind. */
export function parentName(field: string): string {
  const [, stem] = /^(.+?)(?:Id|_id)$/.exec(field) ?? []
  return stem ?? `${field}Record`
}

/** The records a record of this table refers to. */
export function parentsOf(model: ModelData, table: string): readonly Relation[] {
  const { fields } = tableOf(model, table)
  return Object.entries(fields).flatMap(([field, { references }]) => {
    if (references === undefined) return []
    return [
      {
        name: parentName(field),
        table: references,
        from: field,
        to: tableOf(model, references).key[0],
        one: true,
      },
    ]
  })
}

/** The tables that refer to this one, one relation for each referring field. */
export function childrenOf(model: ModelData, table: string): readonly Relation[] {
  const from = tableOf(model, table).key[0]
  return Object.entries(model.tables).flatMap(([name, { fields }]) =>
    Object.entries(fields)
      .filter(([, field]) => field.references === table)
      .map(([to]) => ({ name, table: name, from, to, one: false })),
  )
}

/**
 * The child relation of that name, by that field where several fields refer here.
 * @throws {ModelError} where several fields refer here and none was named
 * @throws {UnknownNameError} where the field named does not refer here
 */
export function childOf(model: ModelData, table: string, name: string, by?: string): Relation {
  const all = childrenOf(model, table).filter((relation) => relation.name === name)
  const [first, ...more] = by === undefined ? all : all.filter((relation) => relation.to === by)
  if (!first) {
    throw new UnknownNameError(
      'reference to ' + table,
      by ?? name,
      all.map((each) => each.to),
      name,
    )
  }
  if (more.length > 0) {
    const fields = all.map((each) => each.to).join(', ')
    throw new ModelError(`${name} refers to ${table} by ${fields}; say which, as in ${name}.by('${first.to}').`)
  }
  return first
}
