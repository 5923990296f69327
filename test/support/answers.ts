import { createGuard, type Data, inFull, type Rules, StoreError, trusted } from 'pachter'
import { columnNamed, type SqlStore, tableNamed } from 'pachter/sql'
import { type Engine, load, undoable } from './engines.js'
import { keyOf } from './keys.js'
import { type Pair, viewer } from './pairs.js'
import { asGiven, type Question } from './questions.js'
import { NOW, TABLES } from './worlds.js'

export type AnyStore = Record<string, (...given: unknown[]) => unknown>

export const READS = ['list', 'get', 'count', 'exists', 'stream', 'view', 'filter']
export const WRITES = [
  'create',
  'update',
  'delete',
  'act',
  'upsert',
  'createMany',
  'updateMany',
  'actMany',
  'deleteMany',
]

/** An answer, or an error with all that can be got out of it. */
export async function answered(work: () => unknown): Promise<unknown> {
  try {
    return await work()
  } catch (error) {
    if (!(error instanceof Error)) throw error
    // A question that asks for nothing there is would hold nothing.
    if (error.message.startsWith('There is no table')) throw error
    // Nor does it hold anything that the database failed at both.
    if (error instanceof StoreError) throw new Error(inFull(error), { cause: error })
    const own = Object.fromEntries(
      Object.getOwnPropertyNames(error)
        .filter((name) => name !== 'stack')
        .map((name) => [name, (error as never)[name]]),
    )
    return { error: error.name, own, text: String(error), json: JSON.stringify(error) }
  }
}

/** Asks a question, of somebody's own store or in whatever other way. */
type Ask = (question: Question) => Promise<unknown>

/** How the caller of a pair asks questions of a store. */
export type Asking = (pair: Pick<Pair, 'world' | 'who'>, store: SqlStore) => Ask | Promise<Ask>

/** By the scoped store. */
export const directly: Asking = ({ world: { rulebook }, who }, store) => {
  const rules = rulebook as Rules<never, never>
  const scoped = createGuard({ rules, store, clock: () => NOW }).as(who as never) as unknown as AnyStore
  const names = { rulebook, dialect: store.dialect }
  return ({ method, table, given }) =>
    answered(async () => {
      if (method === 'view' || method === 'filter') {
        const piece = scoped[method]?.(table, ...given) as { text: string; values: unknown[] }
        const from = method === 'view' ? `${piece.text} AS v` : `${tableNamed(names, table)} AS _0 WHERE ${piece.text}`
        const key = keyOf(rulebook.model, table)
        const wanted = method === 'view' ? 'v.*' : key.map((name) => `_0.${columnNamed(names, table, name)}`).join()
        const order = key.map((_, at) => at + 1).join()
        return (await store.query(`SELECT ${wanted} FROM ${from} ORDER BY ${order}`, piece.values)).rows
      }
      const isRead = READS.includes(method)
      const options = given.map((each) => (isRead && typeof each === 'object' && each !== null ? asGiven(each) : each))
      const answer = scoped[method]?.(table, ...options)
      if (method !== 'stream') return answer
      const found: unknown[] = []
      for await (const row of answer as AsyncIterable<unknown>) found.push(row)
      return found
    })
}

/**
 * What these questions are answered in both databases of a pair.
 *
 * @param looking whether what a write leaves behind is looked at as well
 */
export async function answersTo(
  pair: Pair,
  other: Data,
  questions: readonly Question[],
  { store: { ...columnsUnknown }, ...rest }: Engine,
  { looking = true, asking = directly }: { readonly looking?: boolean; readonly asking?: Asking } = {},
): Promise<[unknown[], unknown[]]> {
  const engine = { ...rest, store: columnsUnknown }
  const { store, undone } = undoable(engine.store)
  const rules = pair.world.rulebook as Rules<never, never>
  const everything = createGuard({ rules, store, onDecision: () => undefined }).as(
    trusted('what is there'),
  ) as unknown as AnyStore
  const viewOf = viewer(pair.world, pair.who)
  // One for both: what was found out and compiled for one serves the other.
  const ask = await asking(pair, store)
  const written = (question: Question) =>
    undone(async () => {
      const said = await ask(question)
      if (!looking) return said
      // What a write leaves behind is an answer, too.
      const left: unknown[] = []
      for (const table of TABLES) left.push(await ask({ method: 'list', table, given: [{ access: true }] }))
      const tables: Record<string, unknown> = {}
      for (const each of Object.keys(pair.world.data)) tables[each] = await everything['list']?.(each)
      return { said, left, view: viewOf(tables as Data) }
    })
  const answers: unknown[][] = []
  for (const data of [pair.world.data, other]) {
    await load(engine, pair.world.rulebook.model, data, pair.isOdd)
    const said: unknown[] = []
    for (const question of questions) said.push(await (READS.includes(question.method) ? ask : written)(question))
    answers.push(said)
  }
  return answers as [unknown[], unknown[]]
}
