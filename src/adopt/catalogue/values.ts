import type { Shape } from '../../model/index.js'
import type { Ask, CatalogueColumn, Held } from './catalogue.js'

/** How many records are looked at, in whatever order they come. */
export const LOOKED_AT = 10_000

/** What a column can have among its values that no field of its type holds. */
export interface Oddity {
  /** Whether a value is such, as SQL. */
  readonly where: string
  /** What the column is taken for where there is one. */
  readonly held: Held
}

/** A column, how statements name it, and what may be odd in it. */
export interface Suspect {
  readonly column: CatalogueColumn
  readonly named: string
  readonly oddity: Oddity | undefined
}

/** Of columns that this user may not read, nothing is known. */
function unlessDenied(error: unknown): readonly [] {
  const { code, errno } = error as { readonly code?: unknown; readonly errno?: unknown }
  if (code === '42501' || errno === 1142 || errno === 1143) return []
  throw error
}

/**
 * Looks at some records of a table for values that their column's type allows and no field holds.
 *
 * @param from the table, as statements name it
 * @returns the columns, as their values have them; as they were, where the table cannot be read
 */
export async function lookedThrough(
  ask: Ask,
  from: string,
  suspects: readonly Suspect[],
): Promise<readonly CatalogueColumn[]> {
  const asked = suspects.flatMap(({ oddity, named }, at) => (oddity ? [{ at, named, where: oddity.where }] : []))
  const odd = new Set<number>()
  if (asked.length > 0) {
    const names = asked.map(({ named }) => named).join(', ')
    const counts = asked.map(({ at, where }) => `sum(CASE WHEN ${where} THEN 1 ELSE 0 END) AS c${at}`).join(', ')
    const statement = `SELECT ${counts} FROM (SELECT ${names} FROM ${from} LIMIT ${LOOKED_AT}) AS looked`
    const [row] = await ask<Record<string, unknown>>(statement).catch(unlessDenied)
    for (const { at } of asked) if (Number(row?.[`c${at}`] ?? 0) > 0) odd.add(at)
  }
  return suspects.map(({ column, oddity }, at) => {
    if (!oddity || !odd.has(at)) return column
    const rest = { ...column }
    delete (rest as { shape?: Shape }).shape
    return { ...rest, ...oddity.held }
  })
}
