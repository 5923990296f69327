import type { Condition } from '../../condition/index.js'
import type { Caller } from '../../rules/index.js'
import { compilationOn, planCount } from '../../sql/index.js'
import type { Workbench } from './workbench.js'

/**
 * Counts the records of a table that meet a condition for a caller, by a scan: whatever it asks, it asks of all of them.
 *
 * @param condition expanded, and made out for the caller
 */
export async function countWhere(
  { rulebook, store, clock }: Workbench,
  table: string,
  caller: Caller,
  condition: Condition,
): Promise<number> {
  if (condition.kind === 'never') return 0
  const compilation = { ...(await compilationOn(store, rulebook)), form: 'scan' } as const
  const { text, bind } = planCount(compilation, table, condition)
  return Number((await store.query(text, bind({ caller, clock }))).rows[0]?.['count'] ?? 0)
}
