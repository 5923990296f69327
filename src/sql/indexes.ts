import { asksCaller, type Compare, type Condition, type Operand, refersOutside, type Some } from '../condition/index.js'
import { isAboutCallerAlone } from './forms.js'

/** The first columns of a table's indexes, by table. */
export type Indexes = Readonly<Record<string, ReadonlySet<string>>>

/** Comparisons that leave an index one stretch to go through. */
const STRETCHES: readonly string[] = ['is', 'in', 'below', 'atMost', 'above', 'atLeast', 'startsWith']

/** Those that leave it few records, mostly. */
const POINTS: readonly string[] = ['is', 'in']

/** The field of a record that a comparison holds to something which does not stand in the record itself. */
function heldField({ how, left, right }: Compare, level: number, comparisons: readonly string[]): string | undefined {
  if (!comparisons.includes(how)) return undefined
  const [own, other] = [fieldAt(left, level), fieldAt(right, level)]
  if (own !== undefined && other !== undefined) return undefined
  return own ?? (how === 'is' ? other : undefined)
}

const fieldAt = (operand: Operand, level: number): string | undefined =>
  operand.kind === 'field' && operand.level === level ? operand.name : undefined

/** Whether a step can be gone from what the caller reaches to the records that lead there. */
const isReversible = ({ where, to }: Some): boolean => asksCaller(where) && !refersOutside(where, to.level)

/**
 * Whether an index leads to the records of a branch, or it is of all records or of none.
 *
 * @param level at which the table stands in the branch
 */
export const isIndexed = (
  branch: Condition,
  table: string,
  indexes: Indexes,
  level = 0,
  comparisons: readonly string[] = POINTS,
): boolean =>
  (level === 0 && isAboutCallerAlone(branch)) ||
  isLedTo(branch, (field) => field !== undefined && indexes[table]?.has(field) === true, level, comparisons)

function isLedTo(
  branch: Condition,
  has: (field: string | undefined) => boolean,
  level: number,
  comparisons: readonly string[],
): boolean {
  const inside = (part: Condition) => isLedTo(part, has, level, comparisons)
  switch (branch.kind) {
    case 'all':
      return branch.of.some(inside)
    case 'any':
      return branch.of.every(inside)
    case 'compare':
      return has(heldField(branch, level, comparisons))
    case 'some':
      return isReversible(branch) && has(fieldAt(branch.from, level))
    case 'always':
    case 'never':
    case 'not':
    case 'after':
    case 'unchanged':
    case 'isSet':
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
      return false
  }
}

/** Whether an index leads to the records that meet all of these conditions. */
export const areFound = (conditions: readonly Condition[], table: string, indexes: Indexes): boolean =>
  conditions.some((each) => !isAboutCallerAlone(each) && isIndexed(each, table, indexes, 0, STRETCHES))

/** The tables that a branch goes through as a whole, since no index leads to what a step of it looks for. */
export function searchedBy(branch: Condition, indexes: Indexes): readonly string[] {
  if (branch.kind === 'all' || branch.kind === 'any') return branch.of.flatMap((part) => searchedBy(part, indexes))
  if (branch.kind !== 'some' || !asksCaller(branch.where)) return []
  const { table, to, where, chain } = branch
  const isFound =
    isIndexed(where, table, indexes, to.level) && (chain === undefined || indexes[table]?.has(chain) === true)
  return [...(isFound ? [] : [table]), ...searchedBy(where, indexes)]
}

/**
 * The fields, as `items.ownerId`, whose indexes would lead to the records of a branch, or to what a step of it looks for, and
 * are not there; none where no index can.
 *
 * @param unserved the fields that no index serves, written alike
 * @example missingFor(row.audience.is('public'), 'entries', {}) // ['entries.audience']
 */
export const missingFor = (
  branch: Condition,
  table: string,
  indexes: Indexes,
  unserved: ReadonlySet<string> = new Set(),
): readonly string[] => (isAboutCallerAlone(branch) ? [] : (lackingFor(branch, table, { indexes, unserved }, 0) ?? []))

/** What is missing for a branch to be led to by indexes; nothing where they cannot. */
function lackingFor(
  branch: Condition,
  table: string,
  known: { readonly indexes: Indexes; readonly unserved: ReadonlySet<string> },
  level: number,
): readonly string[] | undefined {
  const lacking = (of: string, field: string | undefined): readonly string[] | undefined => {
    if (field === undefined) return undefined
    if (known.indexes[of]?.has(field)) return []
    return known.unserved.has(`${of}.${field}`) ? undefined : [`${of}.${field}`]
  }
  if (branch.kind === 'compare') return lacking(table, heldField(branch, level, POINTS))
  if (branch.kind === 'some') {
    const { table: inner, from, to, where, chain } = branch
    const own = isReversible(branch) ? lacking(table, fieldAt(from, level)) : undefined
    if (!own) return undefined
    const leading = chain === undefined ? [] : (lacking(inner, chain) ?? [])
    return [...own, ...leading, ...(lackingFor(where, inner, known, to.level) ?? [])]
  }
  if (branch.kind !== 'all' && branch.kind !== 'any') return undefined
  // What the caller alone decides is decided before anything is looked for.
  const parts = branch.of.filter((part) => level > 0 || !isAboutCallerAlone(part))
  const lacked = parts.map((part) => lackingFor(part, table, known, level))
  const led = lacked.filter((names) => names !== undefined)
  if (branch.kind === 'any') return led.length === lacked.length ? led.flat() : undefined
  // One index is enough for records that have to meet several conditions: what takes the fewest.
  return led.reduce<readonly string[] | undefined>(
    (best, names) => (!best || names.length < best.length ? names : best),
    undefined,
  )
}
