import { ModelError } from './errors.js'
import { show } from './show.js'
import { type ModelData, type TableData, tableOf } from './tables.js'
import type { Shape } from './types.js'
import { isNever } from './values.js'

/** The fields in which, taken together, no two records of a table have the same values, as `unique()` says it. */
export const uniquesOf = (model: ModelData, table: string): readonly (readonly string[])[] =>
  Object.entries(tableOf(model, table).fields).flatMap(([name, { unique }]) =>
    unique === undefined ? [] : [[...(unique === true ? [] : unique), name]],
  )

/** Whether a field can be said to be unique, alone or within others; none cannot. */
export const canBeUnique = (field: Shape | undefined): boolean => field !== undefined && !isNever(field, 'key')

/** Those that say something of their own: no two records have the same values in more fields than a key, or than others. */
export const ownUniques = (
  key: readonly string[],
  uniques: readonly (readonly string[])[],
): readonly (readonly string[])[] => {
  const isWithin = (few: readonly string[], many: readonly string[]) => few.every((name) => many.includes(name))
  return uniques.filter(
    (names, at) =>
      !(key.length > 0 && isWithin(key, names)) &&
      !uniques.some((other, place) => isWithin(other, names) && (other.length < names.length || place < at)),
  )
}

/**
 * How `unique()` says of fields that no two records have the same values in them, each time of one field within the others.
 *
 * @param uniques such fields, together
 * @param can whether a field can be said to be unique
 * @returns the other fields, by the one it is said of; without those that cannot be said
 */
export function uniqueMarks(
  uniques: readonly (readonly string[])[],
  can: (field: string) => boolean,
): ReadonlyMap<string, readonly string[]> {
  const marks = new Map<string, readonly string[]>()
  for (const names of uniques.filter((each) => each.every(can)).sort((left, right) => left.length - right.length)) {
    const name = names.findLast((each) => !marks.has(each))
    const within = names.filter((each) => each !== name)
    if (name !== undefined) marks.set(name, within)
  }
  return marks
}

/** @throws {ModelError} where fields that are said to be unique cannot be */
export function checkUniques(table: string, { fields }: TableData): void {
  for (const [name, { unique }] of Object.entries(fields)) {
    const within = unique === undefined || unique === true ? [] : unique
    const place = `${table}.${name}`
    for (const other of within) {
      if (!Object.hasOwn(fields, other)) {
        throw new ModelError(
          `${place} is unique within ${show(other)}, which ${table} does not have; there is ${Object.keys(fields).join(', ')}.`,
        )
      }
    }
    if (new Set([name, ...within]).size <= within.length || (unique !== true && unique?.length === 0)) {
      throw new ModelError(`${place} is unique within other fields, each once: ${show(within)} are none.`)
    }
    for (const each of unique === undefined ? [] : [name, ...within]) {
      if (!canBeUnique(fields[each]))
        throw new ModelError(`${table}.${each} is of type ${fields[each]?.type}, which cannot be unique.`)
    }
  }
}
