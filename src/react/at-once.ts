import type { QueryClient, QueryKey } from '@tanstack/react-query'
import { keyPath, type ModelData } from '../model/index.js'
import { type AnyRecord, type CachedList, RECORDS } from './context.js'

/** One place where the cache has a record. */
interface Place {
  readonly queryKey: QueryKey
  readonly before: AnyRecord
  /** What stands there instead; nothing where it was taken out. */
  readonly shown: AnyRecord | undefined
  readonly at: number
}

/**
 * Shows what becomes of a record before the server said so, wherever the cache has it.
 *
 * @param change what becomes of it; nothing takes it out of lists
 * @returns what takes that back; whatever came in since stays
 */
export function showAtOnce(
  queries: QueryClient,
  model: ModelData,
  table: string,
  path: string,
  change: (record: AnyRecord) => AnyRecord | undefined,
): () => void {
  const isIt = (record: AnyRecord) => keyPath(model, table, record) === path
  const places: Place[] = []
  for (const [queryKey, list] of queries.getQueriesData<CachedList>({ queryKey: [...RECORDS, table, 'list'] })) {
    const at = list?.records.findIndex(isIt) ?? -1
    const before = list?.records[at]
    if (!list || !before) continue
    const shown = change(before)
    places.push({ queryKey, before, shown, at })
    queries.setQueryData(queryKey, { ...list, records: replaced(list.records, before, shown) })
  }
  for (const [queryKey, before] of queries.getQueriesData<AnyRecord>({
    queryKey: [...RECORDS, table, 'record', path],
  })) {
    const shown = before && change(before)
    if (!before || !shown) continue
    places.push({ queryKey, before, shown, at: -1 })
    queries.setQueryData(queryKey, shown)
  }
  return () => {
    for (const { queryKey, before, shown, at } of places) {
      if (at < 0) queries.setQueryData<AnyRecord>(queryKey, (now) => (now === shown ? before : now))
      else queries.setQueryData<CachedList>(queryKey, (list) => list && takenBack(list, { before, shown, at }, isIt))
    }
  }
}

const replaced = (records: readonly AnyRecord[], one: AnyRecord, other: AnyRecord | undefined): readonly AnyRecord[] =>
  records.flatMap((each): readonly AnyRecord[] => (each !== one ? [each] : other ? [other] : []))

function takenBack(
  list: CachedList,
  { before, shown, at }: Omit<Place, 'queryKey'>,
  isIt: (record: AnyRecord) => boolean,
): CachedList {
  const { records } = list
  if (shown) return { ...list, records: replaced(records, shown, before) }
  return records.some(isIt) ? list : { ...list, records: [...records.slice(0, at), before, ...records.slice(at)] }
}
