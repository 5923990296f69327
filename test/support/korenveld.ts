import { createGuard } from 'pachter'
import type { Store } from 'pachter/store'
import { openDemoStore, readData } from '../../examples/allotment/database.js'
import { rules } from '../../examples/allotment/rules.js'

export const NOW = new Date('2026-11-23T09:00:00.000Z')

/** Korenveld in a database of its own: the guard, the same data in memory, and every statement that was sent. */
export async function openKorenveld() {
  const opened = await openDemoStore()
  const sent: string[] = []
  const store: Store = {
    ...opened,
    query: (text, values) => {
      sent.push(text)
      return opened.query(text, values)
    },
  }
  return {
    guard: createGuard({ rules, store, clock: () => NOW }),
    data: await readData(),
    store,
    sent,
    /** Runs something and takes back whatever it wrote. */
    async undone<T>(work: () => Promise<T>): Promise<T> {
      await opened.query('BEGIN', [])
      try {
        return await work()
      } finally {
        await opened.query('ROLLBACK', [])
      }
    },
    close: () => opened.close?.(),
  }
}

/** The error a promise is rejected with; fails where it is not. */
export async function refusalOf(promise: Promise<unknown>): Promise<Error & { code?: string; status?: number }> {
  const outcome = await promise.then(
    () => undefined,
    (error: unknown) => error,
  )
  if (outcome instanceof Error) return outcome
  throw new Error('It was expected to be refused and was not.')
}
