import type { QueryClient, QueryKey } from '@tanstack/react-query'
import type { Client } from '../client/index.js'
import { keyPath, type ModelData } from '../model/index.js'
import type { Rulebook } from '../rules/index.js'

/** A record as pages have it, whatever its table. */
export type AnyRecord = Readonly<Record<string, unknown>>

/** A client of whatever model: what hooks and components work with. Their types for applications stand in `for-react.ts`. */
export interface AnyClient extends Pick<
  Client,
  'session' | 'signInAt' | 'signOut' | 'tellSignedIn' | 'onSession' | 'isConnected' | 'onConnection'
> {
  readonly model: ModelData
  readonly rules: Rulebook | undefined
  list(table: string, query: object): Promise<{ readonly records: readonly AnyRecord[]; readonly next?: string }>
  get(table: string, key: unknown, query: object): Promise<AnyRecord>
  follow(table: string, query: object, ears: object): () => void
  create(table: string, values: AnyRecord, options?: object): Promise<AnyRecord>
  update(table: string, key: unknown, values: AnyRecord, options?: object): Promise<AnyRecord>
  delete(table: string, key: unknown, options?: object): Promise<void>
  act(table: string, action: string, key: unknown, values?: AnyRecord, options?: object): Promise<AnyRecord>
}

/** How hooks and components work. */
export interface ForReactOptions {
  readonly standstill?: () => string | undefined
}

/** Under which key the cache has everything of the server's. */
export const ALL = ['pachter'] as const
export const SESSION = [...ALL, 'session'] as const
/** Whether the server ended it while the page was open. */
export const ENDED = [...ALL, 'ended'] as const
/** The records of all tables. */
export const RECORDS = [...ALL, 'records'] as const
export const listKey = (table: string, query: object): QueryKey => [...RECORDS, table, 'list', query]
export const recordKey = (table: string, path: string, query: object): QueryKey => [
  ...RECORDS,
  table,
  'record',
  path,
  query,
]

/** A list in the cache. */
export interface CachedList {
  readonly records: readonly AnyRecord[]
  readonly more: boolean
}

/** The key of a record, for the client. */
export const keyIn = (model: ModelData, table: string, record: AnyRecord): AnyRecord =>
  Object.fromEntries((model.tables[table]?.key ?? []).map((name) => [name, record[name]]))

/** All records that the cache has, by table: what a verdict in memory can look at. */
export function knownData(queries: QueryClient, model: ModelData): Readonly<Record<string, readonly AnyRecord[]>> {
  const known: Record<string, Map<string, AnyRecord>> = {}
  const note = (table: string, record: AnyRecord) => {
    const { fields } = model.tables[table] ?? { fields: {} }
    const own = Object.fromEntries(Object.keys(fields).map((name) => [name, record[name] ?? null]))
    ;(known[table] ??= new Map()).set(keyPath(model, table, record), own)
  }
  for (const [[, , table, kind], data] of queries.getQueriesData<CachedList | AnyRecord>({ queryKey: RECORDS })) {
    if (!data || typeof table !== 'string') continue
    const records = kind === 'list' ? (data as CachedList).records : [data as AnyRecord]
    for (const record of records) note(table, record)
  }
  return Object.fromEntries(Object.entries(known).map(([table, records]) => [table, [...records.values()]]))
}
