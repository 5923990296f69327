import { type Fragment, sql } from './fragment.js'

/** LIMIT and OFFSET as most databases write them. */
export function limit(count: Fragment | undefined, skipped?: Fragment): Fragment {
  return sql`${count ? sql` LIMIT ${count}` : sql``}${skipped ? sql` OFFSET ${skipped}` : sql``}`
}
