import { afterSlot, type Order } from '../guard/index.js'
import { fieldOf } from '../model/index.js'
import { compareInOrder, type SignedComparison } from './compare.js'
import { type Compilation, compileCondition, type Scope } from './condition.js'
import { type Fragment, join, slot, sql } from './fragment.js'
import { selectedColumn } from './stored.js'
import { hasTrait } from './traits.js'

/**
 * What to sort by, for ORDER BY. Missing values come before all others.
 *
 * @param isFound whether the records are found first, and not met while their table is gone through in this order
 */
export function orderBy(
  compilation: Compilation,
  scope: Scope,
  orders: readonly Order[],
  scopes: readonly Scope[],
  isFound = false,
): Fragment {
  const { rulebook, dialect } = compilation
  const terms = orders.map((order) => {
    const optional = order.sight !== undefined || fieldOf(rulebook.model, scope.table, order.field).optional === true
    const column = sorted(compilation, scope, order, scopes)
    const apart = isFound && dialect.unindexed ? dialect.unindexed(column) : column
    return dialect.order(apart, order.descending, optional)
  })
  return join(terms, ', ')
}

/** What of a field is sorted and paged by: no more than a value has of it, or the database looks at. */
function sorted(compilation: Compilation, scope: Scope, { field, sight }: Order, scopes: readonly Scope[]): Fragment {
  const { dialect } = compilation
  const own = scope.column(field)
  const isFine = hasTrait(compilation, scope.table, field, 'fine')
  const isLong = dialect.beginning && hasTrait(compilation, scope.table, field, 'long')
  const shape = fieldOf(compilation.rulebook.model, scope.table, field)
  // Where something that is no value counts as missing, it is sorted so.
  const whole = dialect.types[shape.type].present ? selectedColumn(dialect, own, shape) : own
  const column = isFine ? dialect.instant(own) : isLong ? (dialect.beginning?.(own) ?? own) : whole
  return sight ? sql`CASE WHEN ${compileCondition(compilation, sight, scopes)} THEN ${column} END` : column
}

/**
 * Whether a record comes after the one whose values are given, in this order.
 *
 * @param missing the fields whose value there is missing
 * @see https://use-the-index-luke.com/no-offset for paging by the last record seen
 */
export function comesAfter(
  compilation: Compilation,
  scope: Scope,
  orders: readonly Order[],
  missing: readonly string[],
): Fragment {
  const { rulebook } = compilation
  const [order, ...rest] = orders
  if (!order) return sql`FALSE`
  const { field, descending } = order
  const value = sorted(compilation, scope, order, [scope])
  const { dialect } = compilation
  const shape = fieldOf(rulebook.model, scope.table, field)
  const whole = slot({ kind: 'given', name: afterSlot(field) }, shape)
  const isLong = dialect.beginning && hasTrait(compilation, scope.table, field, 'long')
  const given = isLong ? (dialect.beginning?.(whole) ?? whole) : whole
  const compare = (how: SignedComparison) => compareInOrder(dialect, how, value, given, shape)
  const more = rest.length > 0 ? comesAfter(compilation, scope, rest, missing) : undefined
  if (missing.includes(field)) {
    const same = more && sql`(${value} IS NULL AND ${more})`
    if (descending) return same ?? sql`FALSE`
    return same ? sql`(${value} IS NOT NULL OR ${same})` : sql`${value} IS NOT NULL`
  }
  const beyond = descending ? compare('below') : compare('above')
  const optional = order.sight !== undefined || shape.optional === true
  const last = descending && optional ? [sql`${value} IS NULL`] : []
  if (!more) return last.length > 0 ? sql`(${join([beyond, ...last], ' OR ')})` : beyond
  const same = sql`(${compare('is')} AND ${more})`
  // Said first on its own, so that an index on the field can start there.
  const from = descending ? compare('atMost') : compare('atLeast')
  if (last.length > 0) return sql`(${join([beyond, ...last, same], ' OR ')})`
  return sql`(${from} AND (${beyond} OR ${same}))`
}
