import fc from 'fast-check'
import { createGuard, type Data, inFull, type Rules } from 'pachter'
import { createClient } from 'pachter/client'
import { createHandler } from 'pachter/http'
import { createIdentity, notMine, thisCaller } from 'pachter/identity'
import { keyPath, type ModelData, readKey, tableOf, toJson } from 'pachter/model'
import { type AnyStore, type Asking, READS, WRITES } from './answers.js'
import { keysFor, strangerTo } from './keys.js'
import { drawnQuery } from './queries.js'
import { type Question, questionOn } from './questions.js'
import { NOW, TABLES } from './worlds.js'

type Row = Readonly<Record<string, unknown>>

/** Anything that can be asked or done over HTTP. */
export const questionOver = (model: ModelData, data: Data): fc.Arbitrary<Question> => {
  const table = fc.constantFrom(...TABLES)
  const list = table.chain((table) =>
    drawnQuery(model, table, 1, true).map((query): Question => ({ method: 'list', table, given: [query] })),
  )
  const get = table.chain((table) => {
    const key = fc.constantFrom(...keysFor(model, table), strangerTo(model, table))
    return fc
      .tuple(key, drawnQuery(model, table, 1))
      .map(([id, { orderBy: _, limit: __, ...query }]): Question => ({ method: 'get', table, given: [id, query] }))
  })
  const write = questionOn(model, data).filter(({ method }) => WRITES.includes(method) && method !== 'upsert')
  return fc.oneof(list, get, write, write)
}

/** By requests, of which all that comes back is the answer: status, headers and body. */
export const overHttp: Asking = async ({ world: { rulebook }, who }, store) => {
  const { model } = rulebook
  const rules = rulebook as Rules<never, never>
  const failures: unknown[] = []
  const isNobody = 'anonymous' in who
  const identify = () => (isNobody ? notMine : thisCaller<never>(who as never))
  const { handle } = createHandler({
    guard: createGuard({ rules, store, clock: () => NOW }),
    identity: await createIdentity({ rules, sources: [{ name: 'who', identify }] }),
    refusalMilliseconds: 0,
    onError: (error) => failures.push(error),
  })
  let came: (readonly [method: string, status: number, ...rest: unknown[]])[] = []
  const fetch = async (at: string, init: RequestInit = {}) => {
    const response = await handle(new Request(`http://localhost${at}`, init))
    const body = await response.clone().text()
    if (response.status >= 500) throw new Error(failures.map(inFull).join())
    const { method = 'GET' } = init
    came.push([method, response.status, [...response.headers], body])
    if (method !== 'GET') return response
    const head = await handle(new Request(`http://localhost${at}`, { ...init, method: 'HEAD' }))
    came.push(['HEAD', head.status, [...head.headers], await head.text()])
    return response
  }
  const client = createClient({ model: model as never, signIn: null, fetch: fetch as never }) as unknown as AnyStore
  const write = (method: string, at: string, body?: unknown, headers: Record<string, string> = {}) => {
    const type = method === 'PATCH' ? 'application/merge-patch+json' : 'application/json'
    const sent = body === undefined ? {} : { body: JSON.stringify(body) }
    return fetch(`/api/${at}`, {
      method,
      headers: { ...(body !== undefined && { 'content-type': type }), ...headers },
      ...sent,
    })
  }
  const json = (table: string, values: Row = {}): Row =>
    Object.fromEntries(
      Object.entries(values).map(([name, value]) => {
        const field = tableOf(model, table).fields[name]
        return [name, field && value !== null ? toJson(field, value as never) : value]
      }),
    )
  const partOf = (table: string, key: unknown) => keyPath(model, table, readKey(model, table, key))
  const pathOf = (table: string, key: unknown) => `${table}/${partOf(table, key)}`
  /** By a tag that is none, and by the one that the record has, where it is seen. */
  const tagged = async (table: string, id: unknown, send: (headers: Record<string, string>) => Promise<unknown>) => {
    const seen = await fetch(`/api/${pathOf(table, id)}`)
    await send({ 'if-match': '"none"' })
    await send({ 'if-match': seen.headers.get('etag') ?? '*' })
    await fetch(`/api/${pathOf(table, id)}`, { headers: { 'if-none-match': seen.headers.get('etag') ?? '*' } })
  }
  let once = 0
  const asked = async ({ method, table, given }: Question): Promise<unknown> => {
    const [first, second, third] = given as [never, never, never]
    if (method === 'list' || method === 'get')
      // What the client makes of an answer is another matter.
      return Promise.resolve(client[method]?.(table, ...given)).catch(() => undefined)
    if (method === 'create') {
      // Sent twice, as after a connection that was lost; nobody's repeats are not known.
      const headers = isNobody ? {} : { 'idempotency-key': `${(once += 1)}` }
      await write('POST', table, json(table, first), headers)
      return isNobody || write('POST', table, json(table, first), headers)
    }
    if (method === 'update')
      return tagged(table, first, (headers) => write('PATCH', pathOf(table, first), json(table, second), headers))
    if (method === 'delete')
      return tagged(table, first, (headers) => write('DELETE', pathOf(table, first), undefined, headers))
    if (method === 'act')
      return tagged(table, second, (headers) =>
        write('POST', `${pathOf(table, second)}/settle`, json(table, third), headers),
      )
    const keys = (all: readonly unknown[]) => all.map((key) => partOf(table, key))
    const { partly = false } = (given.at(-1) ?? {}) as { partly?: boolean }
    const bulk = (body: object) => write('POST', `${table}/$bulk`, { ...body, partly })
    if (method === 'createMany')
      return bulk({ action: 'create', records: (first as Row[]).map((each) => json(table, each)) })
    if (method === 'actMany') return bulk({ action: 'settle', keys: keys(second), values: json(table, third) })
    if (method === 'updateMany') return bulk({ action: 'update', keys: keys(first), values: json(table, second) })
    return bulk({ action: 'delete', keys: keys(first) })
  }
  return async (question) => {
    came = []
    await asked(question)
    const isRead = READS.includes(question.method)
    const isDone = came.some(([method, status]) => status < 300 && (isRead || !['GET', 'HEAD'].includes(method)))
    return isDone ? came : { error: 'refused', came }
  }
}
