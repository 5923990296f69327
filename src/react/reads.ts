import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { AnswerError } from '../client/index.js'
import { keyPath, readKey } from '../model/index.js'
import { useQueries } from './cache.js'
import { type AnyClient, type AnyRecord, type CachedList, listKey, recordKey } from './context.js'

/** A list, for a page. */
export interface ListState<R = AnyRecord> {
  readonly records: readonly R[]
  /** Whether there are more records than these. */
  readonly more: boolean
  /** Whether nothing came yet. */
  readonly isLoading: boolean
  /** Why nothing came, or comes any more. */
  readonly error: AnswerError | null
  /** Asks again. */
  retry(): void
}

/** A record, for a page. */
export interface RecordState<R = AnyRecord> {
  readonly record: R | undefined
  readonly isLoading: boolean
  readonly error: AnswerError | null
  retry(): void
}

/** How a list is shown. */
export interface ListHookOptions {
  /** Whether it follows changes; left out, it is asked again when this page changed something, or is come back to. */
  readonly live?: boolean
  /** Whether it is asked for at all; left out, it is. */
  readonly enabled?: boolean
}

/** Where nothing changes by asking again at once. */
const isFinal = (error: unknown): boolean => {
  const { status } = error as Partial<AnswerError>
  return typeof status === 'number' && status >= 400 && status < 500
}

export const retrying = { retry: (count: number, error: unknown) => count < 2 && !isFinal(error) }

/** What is not to be seen any more is not shown any longer; that a session is over leaves what is there until it is known whose. */
const isHidden = (error: unknown): boolean => [403, 404].includes((error as Partial<AnswerError> | null)?.status ?? 0)

/** Hooks that read. */
export function readHooks(client: AnyClient) {
  function useList(
    table: string,
    query: object = {},
    { live = false, enabled = true }: ListHookOptions = {},
  ): ListState {
    const queries = useQueries(client)
    const queryKey = listKey(table, query)
    const name = JSON.stringify(queryKey)
    const [refused, setRefused] = useState<{ readonly name: string; readonly error: AnswerError } | null>(null)
    const found = useQuery<CachedList>({
      queryKey,
      queryFn: async () => {
        const { records, next } = await client.list(table, query)
        return { records, more: next !== undefined }
      },
      enabled: enabled && !live,
      ...retrying,
    })
    useEffect(() => {
      if (!live || !enabled) return undefined
      const stop = client.follow(table, query, {
        records: (page: CachedList) => {
          setRefused(null)
          queries.setQueryData(queryKey, page)
        },
        refused: (error: AnswerError) => {
          queries.setQueryData(queryKey, { records: [], more: false })
          setRefused({ name, error })
        },
      })
      return () => {
        stop()
        // Nobody follows it any more: it would be shown as it was, whatever is to be seen of it by then.
        setTimeout(() => {
          const kept = queries.getQueryCache().find({ queryKey, exact: true })
          if (kept?.getObserversCount() === 0) queries.removeQueries({ queryKey, exact: true })
        })
      }
      // The name stands for table and query.
      // eslint-disable-next-line react-hooks/exhaustive-deps
    }, [live, enabled, name, queries])
    const error = refused?.name === name ? refused.error : (found.error as AnswerError | null)
    const data = isHidden(error) ? undefined : found.data
    return {
      records: data?.records ?? [],
      more: data?.more === true,
      isLoading: enabled && data === undefined && !error,
      error,
      retry: () => void found.refetch(),
    }
  }

  function useRecord(table: string, key: unknown, query: object = {}): RecordState {
    const isAsked = key !== undefined && key !== null
    const path = isAsked ? keyPath(client.model, table, readKey(client.model, table, key)) : ''
    const found = useQuery<AnyRecord>({
      queryKey: recordKey(table, path, query),
      queryFn: () => client.get(table, key, query),
      enabled: isAsked,
      ...retrying,
    })
    return {
      record: isHidden(found.error) ? undefined : found.data,
      isLoading: found.isLoading,
      error: found.error as AnswerError | null,
      retry: () => void found.refetch(),
    }
  }

  return { useList, useRecord }
}
