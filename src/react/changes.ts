import type { QueryClient } from '@tanstack/react-query'
import { useMemo } from 'react'
import { keyPath, readKey } from '../model/index.js'
import { showAtOnce } from './at-once.js'
import { useQueries } from './cache.js'
import { type AnyClient, type AnyRecord, keyIn, RECORDS } from './context.js'
import { verdictHere } from './verdict.js'

/** Writes, for a page: each has the lists and records that are shown asked again once it is done. */
export interface Changes {
  create(values: AnyRecord, options?: object): Promise<AnyRecord>
  /**
   * Where the rules say in memory that it may be, it is shown at once, and taken back where the server says otherwise.
   *
   * @param record as it is shown: its key is enough, the rest is for the verdict
   */
  update(record: AnyRecord, values: AnyRecord, options?: object): Promise<AnyRecord>
  delete(record: AnyRecord, options?: object): Promise<void>
  act(action: string, record: AnyRecord, values?: AnyRecord, options?: object): Promise<AnyRecord>
}

/** Hooks that write. */
export function changeHooks(client: AnyClient) {
  const useChanges = (table: string): Changes => {
    const queries = useQueries(client)
    return useMemo(() => changesOf(client, queries, table), [queries, table])
  }
  return { useChanges }
}

export function changesOf(client: AnyClient, queries: QueryClient, table: string): Changes {
  const { model } = client
  const again = () => queries.invalidateQueries({ queryKey: RECORDS })

  /** Shows what comes out before the server said so, where that is to be expected. */
  async function shown<T>(
    action: string,
    record: AnyRecord,
    values: AnyRecord | undefined,
    send: (key: AnyRecord) => Promise<T>,
  ): Promise<T> {
    const key = keyIn(model, table, record)
    const path = keyPath(model, table, readKey(model, table, key))
    const verdict = verdictHere(client, queries, { table, action, record, ...(values && { values }) })
    let takeBack: (() => void) | undefined
    if (verdict?.allowed) {
      // What is on its way was asked before.
      await queries.cancelQueries({ queryKey: [...RECORDS, table] })
      const change = (each: AnyRecord) => (action === 'delete' ? undefined : { ...each, ...values })
      takeBack = showAtOnce(queries, model, table, path, change)
    }
    try {
      return await send(key)
    } catch (error) {
      takeBack?.()
      throw error
    } finally {
      void again()
    }
  }

  return {
    create: async (values, options) => {
      const record = await client.create(table, values, options)
      void again()
      return record
    },
    update: (record, values, options) =>
      shown('update', record, values, (key) => client.update(table, key, values, options)),
    delete: (record, options) => shown('delete', record, undefined, (key) => client.delete(table, key, options)),
    // What an action of the table's own sets, the server knows.
    act: async (action, record, values, options) => {
      try {
        return await client.act(table, action, keyIn(model, table, record), values, options)
      } finally {
        void again()
      }
    },
  }
}
