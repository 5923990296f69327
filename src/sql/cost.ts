import type { Form } from '../guard/index.js'
import type { Dialect } from './dialect.js'

/** What is known when a form is chosen. */
export interface Outlook {
  /** About how many records the table has. */
  readonly rows: number
  /** About how many of them the caller reaches. */
  readonly reach: number
  /** About how many of them meet what else is asked. */
  readonly passing: number
  /** Whether an index leads to these. */
  readonly isFound: boolean
  /** How many are wanted, from the start of an order that an index has; `Infinity` where all are, or all have to be sorted. */
  readonly wanted: number
  /** Whether an index leads to the records of each branch. */
  readonly gathers: boolean
  /** How many records of other tables have to be gone through, since no index leads to those that are looked for. */
  readonly searched: number
}

/** The cheapest form. */
export function chooseForm({ costs, joinsBranches }: Dialect, outlook: Outlook): Form {
  const { rows, reach, passing, isFound, wanted, gathers, searched } = outlook
  const share = passing / Math.max(rows, 1)
  const hits = reach * share
  // In the order asked for, until there are enough; or what an index leads to, and then sorted.
  const inOrder = hits === 0 ? rows : Math.min(rows, (wanted * rows) / hits)
  const visited = isFound ? Math.min(inOrder, passing) : inOrder
  const asked = isFound && passing < inOrder ? passing : inOrder * share
  const once = searched * costs.read
  const cost: Readonly<Record<Form, number>> = {
    gather: gathers && !(joinsBranches && searched > 0) ? once + reach * costs.gather : Infinity,
    walk: visited * costs.read + asked * costs.walk,
    scan: once + visited * costs.read + (asked + reach) * costs.scan,
  }
  return (Object.keys(cost) as Form[]).reduce((best, form) => (cost[form] < cost[best] ? form : best))
}
