import { keyPath, type ModelData } from '../model/index.js'
import type { AnyActions } from '../rules/index.js'
import { type AnyQuery, queryOf, recordPath } from './address.js'
import { AnswerError, jsonIn, problemIn, unreachable } from './errors.js'
import { changed } from './lists.js'
import { readAttributes, readRecord, writeValues } from './read.js'
import { Sessions, type SessionState } from './session.js'
import { type ListEars, Stream } from './stream.js'
import type { Client, ClientOptions, LiveEars, Page, SendOptions } from './types.js'

/**
 * Talks to the records that `pachter/http` serves, and follows the lists of `pachter/live`. What the caller may do, the
 * server said (`$access`); that an interface shows it protects nothing.
 *
 * @param options where the server is, and the model
 * @example
 * const client = createClient({ model, rules })
 * const { records } = await client.list('entries', { filter: filter`plotId eq ${4}`, access: true })
 * await client.update('entries', 3, { title: 'Leeks' }, { tag })
 */
export function createClient<M, C = unknown, A = AnyActions>(options: ClientOptions<M, C, A>): Client<M, C, A> {
  const { origin = '', base = '/api', live = '/live', signIn = '/sign-in' } = options
  const headers = () => present(options.headers?.() ?? {})
  const ask = options.fetch ?? ((...given: Parameters<typeof fetch>) => fetch(...given))
  const model = options.model as unknown as ModelData
  const connectionEars = new Set<(is: boolean) => void>()
  const streams: Stream[] = []
  let isConnected = true
  let token: string | undefined
  const sessions = new Sessions({
    ask: askSession,
    forget: () => (token = undefined),
    restart: () => {
      for (const stream of streams) stream.restart()
    },
  })
  const connected = (is: boolean) => {
    if (is === isConnected) return
    isConnected = is
    for (const hear of connectionEars) hear(is)
  }
  const newStream = () =>
    new Stream(
      (addresses, known, signal) => {
        const lists = new URLSearchParams(addresses.map((address) => ['list', address]))
        const sent = { ...headers(), accept: 'text/event-stream', ...(known && { 'last-event-id': known }) }
        return ask(`${origin}${live}?${lists.toString()}`, { headers: sent, signal })
      },
      { connected, ended: () => sessions.ended() },
    )
  const followed = (address: string, ears: ListEars) => {
    const stream = streams.find((each) => each.hasRoomFor(address)) ?? newStream()
    if (!streams.includes(stream)) streams.push(stream)
    return stream.follow(address, ears)
  }

  const client: Untyped = {
    model: options.model,
    rules: options.rules,
    list: async (table, query = {}) => {
      const { records, next } = (await sent('GET', `/${table}${queryOf(query)}`)) as unknown as Page<Values>
      return { records: records.map((record) => readRecord(model, table, record)), ...(next !== undefined && { next }) }
    },
    get: async (table, key, query = {}) =>
      readRecord(model, table, await sent('GET', `${recordPath(model, table, key)}${queryOf(query)}`)),
    follow: (table, query, ears) => {
      let records: ReadonlyMap<string, Values> = new Map()
      const read = (record: unknown) => readRecord(model, table, record as Values)
      const tell = (more: boolean) => ears.records({ records: [...records.values()], more })
      return followed(`${base}/${table}${queryOf(query)}`, {
        records: (all, more) => {
          records = new Map(all.map((record) => [keyPath(model, table, record as Values), read(record)]))
          tell(more)
        },
        changes: (change, more) => {
          records = changed(records, change, read)
          tell(more)
        },
        current: () => undefined,
        refused: (error) => ears.refused?.(error),
      })
    },
    create: async (table, values, { once } = {}) =>
      readRecord(
        model,
        table,
        await sent('POST', `/${table}`, body(table, values), once ? { 'idempotency-key': once } : {}),
      ),
    update: async (table, key, values, { tag } = {}) => {
      const type = { 'content-type': 'application/merge-patch+json' }
      const at = recordPath(model, table, key)
      return readRecord(model, table, await sent('PATCH', at, body(table, values), { ...type, ...matching(tag) }))
    },
    delete: async (table, key, { tag } = {}) => {
      await sent('DELETE', recordPath(model, table, key), undefined, matching(tag))
    },
    act: async (table, action, key, values = {}, { tag } = {}) =>
      readRecord(
        model,
        table,
        await sent('POST', `${recordPath(model, table, key)}/${action}`, body(table, values), matching(tag)),
      ),
    session: () => sessions.current(),
    signInAt: (backTo) =>
      signIn === null ? undefined : `${origin}${signIn}?${new URLSearchParams({ to: backTo }).toString()}`,
    signOut: async () => {
      const response =
        signIn === null
          ? undefined
          : await answered(`${origin}${signIn}/out`, { method: 'POST', headers: await tokenHeader() })
      const { next } = response ? await jsonIn<{ readonly next: string }>(response) : { next: '/' }
      sessions.signedOut()
      return next
    },
    tellSignedIn: () => sessions.changed(),
    onSession: (hear) => sessions.hear(hear),
    get isConnected() {
      return isConnected
    },
    onConnection: (hear) => {
      connectionEars.add(hear)
      return () => void connectionEars.delete(hear)
    },
    close: () => {
      for (const stream of streams) stream.close()
      sessions.close()
    },
  }
  return client as unknown as Client<M, C, A>

  function body(table: string, values: Values): string {
    return JSON.stringify(writeValues(model, table, values))
  }

  async function sent(
    method: string,
    path: string,
    content?: string,
    more: Readonly<Record<string, string>> = {},
  ): Promise<Values> {
    const own = method === 'GET' ? {} : await tokenHeader()
    const type = content === undefined ? {} : { 'content-type': 'application/json' }
    const response = await answered(`${origin}${base}${path}`, {
      method,
      headers: { accept: 'application/json', ...type, ...own, ...more, ...headers() },
      ...(content !== undefined && { body: content }),
    })
    return response.status === 204 ? {} : jsonIn<Values>(response)
  }

  /** @throws {AnswerError} where it is no good answer */
  async function answered(url: string, init: RequestInit): Promise<Response> {
    const response = await ask(url, init).catch(() => {
      throw unreachable()
    })
    if (response.ok) return response
    const error = new AnswerError(await problemIn(response))
    // Whoever had signed in has not any more.
    if (error.code === 'credentials-refused' || (error.needsSignIn && sessions.isOpen)) sessions.ended()
    throw error
  }

  async function tokenHeader(): Promise<Readonly<Record<string, string>>> {
    if (signIn === null) return {}
    if (token === undefined) await client.session()
    return token === undefined ? {} : { 'x-csrf-token': token }
  }

  async function askSession(): Promise<SessionState> {
    const state = signIn === null ? {} : await jsonIn<Said>(await answered(`${origin}${signIn}/session`, {}))
    token = state.token
    const { signedIn, roles, ...attributes } = await sent('GET', '/$caller')
    return {
      signedIn: signedIn === true,
      name: state.name ?? null,
      caller: options.rules ? readAttributes(options.rules.caller.attributes, attributes) : attributes,
      roles: (roles ?? []) as readonly string[],
    }
  }
}

type Values = Readonly<Record<string, unknown>>

/** What the pages of sign-in say of a session. */
interface Said {
  readonly name?: string | null
  readonly token?: string
}

const present = (headers: Readonly<Record<string, string | undefined>>): Readonly<Record<string, string>> =>
  Object.fromEntries(Object.entries(headers).filter((each): each is [string, string] => each[1] !== undefined))

const matching = (tag: string | undefined): Readonly<Record<string, string>> =>
  tag === undefined ? {} : { 'if-match': tag }

/** A client that knows no model: any table, any key. Its types for applications stand above. */
type Untyped = Omit<Client, 'list' | 'get' | 'follow' | 'create' | 'update' | 'delete' | 'act' | 'model' | 'rules'> & {
  readonly model: unknown
  readonly rules: unknown
  list(table: string, query?: AnyQuery): Promise<Page<Values>>
  get(table: string, key: never, query?: AnyQuery): Promise<Values>
  follow(table: string, query: AnyQuery, ears: LiveEars<Values>): () => void
  create(table: string, values: Values, options?: { readonly once?: string }): Promise<Values>
  update(table: string, key: never, values: Values, options?: SendOptions): Promise<Values>
  delete(table: string, key: never, options?: SendOptions): Promise<void>
  act(table: string, action: string, key: never, values?: Values, options?: SendOptions): Promise<Values>
}
