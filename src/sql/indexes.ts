import { asksCaller, type Condition, type Operand, refersOutside } from '../condition/index.js'
import { isAboutCallerAlone } from './forms.js'

/** The first columns of a table's indexes, by table. */
export type Indexes = Readonly<Record<string, ReadonlySet<string>>>

/** Comparisons that leave an index one stretch to go through. */
const STRETCHES: readonly string[] = ['is', 'in', 'below', 'atMost', 'above', 'atLeast', 'startsWith']

/** Those that leave it few records, mostly. */
const POINTS: readonly string[] = ['is', 'in']

/**
 * Whether an index leads to the records of a branch.
 *
 * @param level at which the table stands in the branch
 */
export function isIndexed(
  branch: Condition,
  table: string,
  indexes: Indexes,
  level = 0,
  comparisons: readonly string[] = POINTS,
): boolean {
  const inside = (part: Condition) => isIndexed(part, table, indexes, level, comparisons)
  const has = (operand: Operand) =>
    operand.kind === 'field' && operand.level === level && indexes[table]?.has(operand.name) === true
  switch (branch.kind) {
    case 'all':
      return branch.of.some(inside)
    case 'any':
      return branch.of.every(inside)
    case 'compare':
      return comparisons.includes(branch.how) && (has(branch.left) || (branch.how === 'is' && has(branch.right)))
    case 'some':
      return has(branch.from) && asksCaller(branch.where) && !refersOutside(branch.where, branch.to.level)
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
      return level === 0 && isAboutCallerAlone(branch)
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
 * @example missingFor(row.audience.is('public'), 'entries', {}) // ['entries.audience']
 */
export function missingFor(branch: Condition, table: string, indexes: Indexes, level = 0): readonly string[] {
  const inside = (part: Condition) => missingFor(part, table, indexes, level)
  const lacking = (...operands: readonly Operand[]) =>
    operands.flatMap((each) => (each.kind === 'field' && each.level === level ? [`${table}.${each.name}`] : []))
  const own = isIndexed(branch, table, indexes, level)
  if (branch.kind === 'any') return branch.of.flatMap(inside)
  // One index is enough for records that have to meet several conditions.
  if (branch.kind === 'all')
    return own
      ? branch.of.filter((part) => isIndexed(part, table, indexes, level)).flatMap(inside)
      : (branch.of.map(inside).find((names) => names.length > 0) ?? [])
  if (branch.kind === 'compare') {
    const { how, left, right } = branch
    return own || !POINTS.includes(how) ? [] : how === 'is' ? lacking(left, right) : lacking(left)
  }
  if (branch.kind !== 'some' || !asksCaller(branch.where) || refersOutside(branch.where, branch.to.level)) return []
  const { table: inner, from, to, where, chain } = branch
  const leading = chain === undefined || indexes[inner]?.has(chain) ? [] : [`${inner}.${chain}`]
  return [...(own ? [] : lacking(from)), ...leading, ...missingFor(where, inner, indexes, to.level)]
}
