import type { Condition } from '../../condition/index.js'
import { isMissing, printKey, type Value } from '../../model/index.js'
import { type Caller, specialise } from '../../rules/index.js'
import type { Everyone } from '../../sql/index.js'
import { countWhere } from '../bench/count.js'
import type { Workbench } from '../bench/workbench.js'

/**
 * Counts what each of all callers reaches, one after another: for conditions that a database cannot be asked of many at once.
 *
 * @param filter when a caller reaches a record; expanded
 * @returns by the key of the caller's record
 */
export async function countEach(
  bench: Workbench,
  everyone: Everyone,
  table: string,
  filter: Condition,
): Promise<ReadonlyMap<string, number>> {
  const { rulebook, everything } = bench
  const counts = new Map<string, number>()
  for (const record of await everything.list(everyone.table)) {
    const caller = callerFrom(record, everyone)
    const count = await countWhere(bench, table, caller, specialise(filter, caller))
    counts.set(printKey(rulebook.model, everyone.table, record), count)
  }
  return counts
}

/** A caller by what stands in their record. */
function callerFrom(record: Readonly<Record<string, unknown>>, { attributes, roles }: Everyone): Caller {
  const own = Object.entries(attributes).map(([name, field]) => [name, record[field]] as const)
  const present = own.filter(([, value]) => !isMissing(value)) as (readonly [string, Value])[]
  const named = roles === undefined ? [] : (record[roles] as readonly string[] | null)
  return { signedIn: true, roles: named ?? [], attributes: Object.fromEntries(present) }
}
