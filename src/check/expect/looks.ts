import { bothWays, byKey } from '../look/by-key.js'
import { type Look, lookAt } from '../look/look.js'
import type { Workbench } from '../bench/workbench.js'
import type { Aspect, SetExpectation } from './expectation.js'
import { wantedFor } from './sets.js'

/**
 * Looks at what expectations about one caller and one table are about.
 *
 * @param counted how many records the caller lists, where that is known already
 * @returns what each aspect is to be held against
 */
export async function looksFor(
  bench: Workbench,
  caller: string,
  table: string,
  expectations: readonly SetExpectation[],
  counted?: number,
): Promise<(about: Aspect) => Look> {
  const look = (at: Workbench, except?: Aspect['what'], count = counted) => {
    const wanted = wantedFor(expectations.filter(({ about }) => about.what !== except))
    return lookAt(at, caller, table, { ...wanted, ...(wanted.count && count !== undefined && { count }) })
  }
  const apart = byKey(bench, table)
  if (!apart) {
    const only = await look(bench)
    return () => only
  }
  const [listed, single] = [await look(bench, 'gets'), await look(apart, 'sees', undefined)]
  const either = { ...single, records: bothWays(listed.records, single.records) }
  return ({ what }) => (what === 'sees' ? listed : what === 'gets' ? single : either)
}
