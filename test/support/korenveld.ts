import { createGuard } from 'pachter'
import { type SqlStore, sqlStore, withoutTrace } from 'pachter/sql'
import { openDemoStore, readData } from '../../examples/allotment/database.js'
import { rules } from '../../examples/allotment/rules.js'

export const NOW = new Date('2026-11-23T09:00:00.000Z')

/** Korenveld in a database of its own: the guard, the same data in memory, and every statement that was sent. */
export async function openKorenveld() {
  const opened = await openDemoStore()
  const sent: string[] = []
  let current: SqlStore = opened
  const store = sqlStore({
    dialect: opened.dialect,
    query: (text, values) => {
      sent.push(text)
      return current.query(text, values)
    },
    transaction: (work) => current.transaction(work),
  })
  return {
    guard: createGuard({ rules, store, clock: () => NOW }),
    data: await readData(),
    store,
    sent,
    /** Runs something and takes back whatever it wrote. */
    undone: <T>(work: () => Promise<T>): Promise<T> =>
      withoutTrace(opened, [], async (inside) => {
        current = inside
        try {
          return await work()
        } finally {
          current = opened
        }
      }),
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
