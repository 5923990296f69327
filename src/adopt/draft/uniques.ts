import { canBeUnique, type FieldData, ownUniques, uniqueMarks } from '../../model/index.js'
import { type CatalogueTable, toldBy } from '../catalogue/catalogue.js'

interface Named {
  readonly name: string
  readonly column: string
  readonly data: FieldData
}

/**
 * What of a table is unique, once its fields are named.
 *
 * @returns the fields, with what is said of them; and what no model says of the table
 */
export function withUniques<F extends Named>(named: readonly F[], { uniques }: CatalogueTable) {
  const byColumn = new Map(named.map((field) => [field.column, field]))
  const key = named.filter(({ data }) => data.key).map(({ column }) => column)
  const own = ownUniques(key, uniques)
  const marks = uniqueMarks(own, (column) => canBeUnique(byColumn.get(column)?.data))
  const said = new Set([...marks].map(([column, within]) => setName([column, ...within])))
  const fields = named.map((field): F => {
    const within = marks.get(field.column)?.map((column) => byColumn.get(column)?.name as string)
    return within ? { ...field, data: { ...field.data, unique: within.length > 0 ? within : true } } : field
  })
  const unsaid = own
    .filter((columns) => !said.has(setName(columns)))
    .map((columns) => toldBy(`no two rows with the same ${columns.join(', ')}`))
  return { fields, unsaid }
}

/** The same for the same columns, in whatever order. */
const setName = (columns: readonly string[]): string => JSON.stringify([...columns].sort())
