import type { KeyValues } from '../model/index.js'
import type { Guard, ScopedStore, UntypedStore } from '../guard/index.js'
import type { Identity } from '../identity/index.js'
import { type Action, checkCaller, type CallerDefinition, type CallerOf, rulesOf } from '../rules/index.js'
import { done, refuse, tell } from './answer.js'
import { bulk } from './bulk.js'
import { describe } from './describe/index.js'
import { describer } from './describe/now.js'
import { RequestError } from './errors.js'
import { jsonWriter } from './json.js'
import { HTTP_LIMITS } from './limits.js'
import { checked, type HandlerOptions, type Settings } from './options.js'
import type { Part } from './parts.js'
import { keyFrom, refusalOfAbsent, type Route, routeOf } from './path.js'
import { untilTick } from './tick.js'
import { assertNoQuery, type ListAsked, readListQuery } from './query/options.js'
import { act, create, get, list, remove, update, type Visit, whoAsks } from './resource.js'

/** A request whose caller is known. */
export interface Opened<M, C, A> {
  readonly caller: CallerOf<C>
  /** The store as this caller may use it; its calls end when the request does. */
  readonly store: ScopedStore<M, A>
}

/** The list that an address leads to. */
export interface ListedAt {
  readonly table: string
  readonly options: ListAsked
}

/** From requests to guarded answers. */
export interface Handler<M, C, A, N> {
  readonly guard: Guard<M, C, A>
  readonly identity: Identity<C, N>
  /** The path below which records are served. */
  readonly base: string
  /**
   * What the address of a list asks of the scoped store, for whoever follows it.
   *
   * @returns nothing where it is no list's
   * @throws {RequestError} where what it asks cannot be read
   */
  listAt(url: URL): ListedAt | undefined
  /**
   * Answers a request for records; whatever goes wrong becomes an answer as well.
   *
   * @param request the request
   * @param native the same as the server has it, for sources of identity that read what its middleware put there
   */
  handle(request: Request, native?: N): Promise<Response>
  /**
   * Finds the caller of a request for a route of your own.
   *
   * @throws what `identity.callerOf` throws; hand it to `refuse`
   */
  open(request: Request, native?: N): Promise<Opened<M, C, A>>
  /**
   * The answer to anything that a route of your own threw: what its caller may be told of it, and no more.
   *
   * @param request the one that was opened: what is refused is not told the sooner for being found out sooner
   */
  refuse(error: unknown, request: Request): Promise<Response>
}

/**
 * Makes of a guard and an identity what serves records over HTTP, on the `Request` and `Response` of the web. Adapters for
 * servers are `pachter/http/express` and `pachter/http/fastify`.
 *
 * @param options what is served, and where
 * @throws {HttpConfigError} where the options cannot work
 * @throws {UnknownNameError} where a table is none of the model's
 * @example
 * const handler = createHandler({ guard, identity, tables: { entries: 'whole', rents: ['list', 'get'] } })
 * const response = await handler.handle(new Request('https://korenveld.example/api/entries?$top=10'))
 */
export function createHandler<M, C extends CallerDefinition, A, N = never>(
  options: HandlerOptions<M, C, A, N>,
): Handler<M, C, A, N> {
  const { guard, identity } = options
  const settings = checked(options)
  const { base, rulebook } = settings
  const write = jsonWriter(rulebook.model)
  const describeTo = describer(settings)
  const arrivals = new WeakMap<Request, number>()
  const opened = async (request: Request, native: N | undefined, cancels: boolean): Promise<Opened<M, C, A>> => {
    const caller = await identity.callerOf(request, native)
    return { caller, store: guard.as(caller, cancels ? { signal: request.signal } : {}) }
  }
  const refused = (error: unknown, request: Request) => refuse(error, request, settings, identity.challenge)
  return {
    guard,
    identity,
    base,
    listAt: (url) => {
      const route = routeAt(url)
      if (route?.to !== 'table' || settings.tables.get(route.table)?.has('list') !== true) return undefined
      return { table: route.table, options: readListQuery(rulebook.model, route.table, url.searchParams).options }
    },
    open: (request, native) => {
      arrivals.set(request, performance.now())
      return opened(request, native, true)
    },
    refuse: async (error, request) => {
      const response = refused(error, request)
      await untilTick(arrivals.get(request) ?? performance.now(), settings.refusalMilliseconds)
      return response
    },
    handle: async (request, native) => {
      const arrived = performance.now()
      try {
        return await answer(request, native)
      } catch (error) {
        const response = refused(error, request)
        await untilTick(arrived, settings.refusalMilliseconds)
        return response
      }
    },
  }

  function routeAt({ pathname }: URL): Route | undefined {
    return pathname.startsWith(`${base}/`) ? routeOf(pathname.slice(base.length)) : undefined
  }

  async function answer(request: Request, native: N | undefined): Promise<Response> {
    if (request.url.length > HTTP_LIMITS.addressCharacters) {
      throw new RequestError(
        414,
        'address-too-long',
        `An address has at most ${HTTP_LIMITS.addressCharacters} characters.`,
      )
    }
    const url = new URL(request.url)
    const route = routeAt(url)
    const methods = route && methodsOf(settings, route, { description, caller: whoAsks })
    if (!route || !methods) throw noPath()
    if (request.method === 'OPTIONS') return done({ allow: allowed(methods) })
    const method = request.method === 'HEAD' ? 'GET' : request.method
    const serve = Object.hasOwn(methods, method) ? methods[method] : undefined
    if (!serve) {
      const allow = allowed(methods)
      throw new RequestError(405, 'method-not-allowed', `Here, use ${allow}.`, { allow })
    }
    const { caller, store } = await opened(request, native, takesLong(route))
    const table = 'table' in route ? route.table : ''
    return serve({
      request,
      url,
      rulebook,
      model: rulebook.model,
      table,
      at: `${base}/${table}`,
      caller: () => checkCaller(rulebook.caller, caller),
      store: store as unknown as UntypedStore,
      write,
      repeats: settings.repeats,
      report: (error) => settings.onError(error, request),
    })
  }

  async function description({ request, url: { searchParams }, caller, store }: Visit): Promise<Response> {
    if (settings.describesAll && searchParams.toString() === 'of=anyone') {
      return tell(request, write, { content: describe(settings) })
    }
    assertNoQuery(searchParams)
    return tell(request, write, { content: await describeTo(caller(), store) })
  }
}

const noPath = () => new RequestError(404, 'path-unknown', 'There is nothing at this path.')

/** What can be worth calling off when the client is gone: listening for that costs more than finding one record. */
const takesLong = ({ to }: Route): boolean => to === 'table' || to === 'bulk'

type Serve = (visit: Visit) => Promise<Response>
type Methods = Readonly<Record<string, Serve | undefined>>

const allowed = (methods: Methods): string => {
  const named = Object.keys(methods).filter((method) => methods[method])
  return [...named, ...(methods['GET'] ? ['HEAD'] : []), 'OPTIONS'].join(', ')
}

/** What answers each method there; nothing where nothing is served. */
function methodsOf(
  { tables, rulebook }: Settings,
  route: Route,
  apart: Readonly<Record<'description' | 'caller', Serve>>,
): Methods | undefined {
  if (route.to === 'description' || route.to === 'caller') return { GET: apart[route.to] }
  const parts = tables.get(route.table)
  if (!parts) return undefined
  const where = (part: Part, serve: Serve) => (parts.has(part) ? serve : undefined)
  const methods = { ...served(route, where, rulebook) }
  return Object.values(methods).some(Boolean) ? methods : undefined
}

function served(
  route: Exclude<Route, { to: 'description' | 'caller' }>,
  where: (part: Part, serve: Serve) => Serve | undefined,
  rulebook: Settings['rulebook'],
): Methods {
  switch (route.to) {
    case 'table':
      return { GET: where('list', list), POST: where('create', create) }
    case 'bulk':
      return { POST: where('bulk', bulk) }
    case 'record':
      return {
        GET: where('get', onRecord('get', route.key, get)),
        PATCH: where('update', onRecord('update', route.key, update)),
        DELETE: where('delete', onRecord('delete', route.key, remove)),
      }
    case 'action': {
      const { key, action } = route
      if (!rulesOf(rulebook, route.table).actions.includes(action)) return {}
      const serve: OnRecord = (visit, found) => act(visit, found, action)
      return { POST: where('act', onRecord(action, key, serve)) }
    }
  }
}

type OnRecord = (visit: Visit, key: KeyValues) => Promise<Response>

/** Serves the record that a path names; a path that names none is answered as one whose record is not there. */
const onRecord =
  (action: Action, written: string, serve: OnRecord): Serve =>
  (visit) => {
    const { model, rulebook, table, caller } = visit
    const key = keyFrom(model, table, written)
    if (!key) throw refusalOfAbsent({ rulebook, table, action, caller: caller() })
    return serve(visit, key)
  }
