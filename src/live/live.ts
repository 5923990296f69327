import { createGuard, type UntypedStore } from '../guard/index.js'
import { HTTP_LIMITS, RequestError } from '../http/index.js'
import { bigIntAsText } from '../model/index.js'
import { type CallerDefinition, trusted } from '../rules/index.js'
import { Feed } from './feed.js'
import { LIVE_LIMITS } from './limits.js'
import { checked, type LiveOptions } from './options.js'
import { Queue } from './queue.js'
import { Watch } from './watch.js'

/** Lists that follow changes. */
export interface Live<N> {
  /**
   * Answers a request for a stream of lists, `GET /live?list=/api/entries?$top=20&list=…` with each address encoded, by
   * Server-Sent Events.
   *
   * @param native the same as the server has it, for sources of identity that read what its middleware put there
   * @returns nothing where the request is for another path
   */
  handle(request: Request, native?: N): Promise<Response | undefined>
  /** Looks at once whether each session still is, as after somebody signed out. */
  recheck(): void
  /** How many streams are open at the moment. */
  readonly streams: number
  /** Ends all streams, and hears of no more changes. */
  close(): Promise<void>
}

/**
 * Lets lists follow changes: a record that becomes visible appears, one that stops being visible goes, for each caller by the
 * rules, also where the change was in another table. What is sent is what the list's address answers at that moment.
 *
 * @param options what is served, and what tells of changes
 * @throws {LiveConfigError} where the options cannot work
 * @see https://html.spec.whatwg.org/multipage/server-sent-events.html
 * @example
 * const store = followWrites(sqliteStore(database))
 * const handler = createHandler({ guard: createGuard({ rules, store }), identity })
 * const live = await createLive({ handler, store })
 * app.use(forExpress(handler).pages(live.handle))
 */
export async function createLive<M, C extends CallerDefinition, A, N = never>(
  options: LiveOptions<M, C, A, N>,
): Promise<Live<N>> {
  const { handler, store } = options
  const settings = checked(options)
  const { rules } = handler.guard
  // What is read to find out whom a change concerns is told to nobody, and no decision about anybody.
  const reader = createGuard({ rules, store, onDecision: () => undefined })
  const watch = new Watch(
    rules,
    reader.as(trusted('whom a change concerns') as never) as unknown as UntypedStore,
    settings.onError,
  )
  const around = { handler, settings, watch, queue: new Queue(LIVE_LIMITS.asksATime) }
  const feeds = new Map<Feed<M, C, A, N>, string>()
  const stop = await store.changes.listen((change) => watch.hear(change))

  return {
    get streams() {
      return feeds.size
    },
    recheck: () => {
      for (const feed of feeds.keys()) feed.recheck()
    },
    close: async () => {
      for (const feed of feeds.keys()) feed.close()
      await stop()
    },
    handle: async (request, native) => {
      const url = new URL(request.url)
      if (url.pathname !== settings.path) return undefined
      try {
        return await begin(request, native, url)
      } catch (error) {
        return handler.refuse(error, request)
      }
    },
  }

  async function begin(request: Request, native: N | undefined, url: URL): Promise<Response> {
    if (request.method !== 'GET') {
      throw new RequestError(405, 'method-not-allowed', 'Here, use GET.', { allow: 'GET' })
    }
    const addresses = addressesIn(url)
    const opened = await handler.open(request, native)
    const { caller } = opened
    const whose = 'anonymous' in (caller as object) ? NOBODY : JSON.stringify(caller, bigIntAsText)
    assertRoom(whose)
    const feed: Feed<M, C, A, N> = new Feed(around, { request, native, opened, addresses }, () => feeds.delete(feed))
    feeds.set(feed, whose)
    return new Response(feed.open(), {
      headers: {
        'content-type': 'text/event-stream',
        // What compresses would keep each event until it has enough.
        'cache-control': 'no-store, no-transform',
        'x-accel-buffering': 'no',
        'x-content-type-options': 'nosniff',
      },
    })
  }

  function assertRoom(whose: string): void {
    let own = 0
    for (const each of feeds.values()) if (each === whose) own += 1
    const most = whose === NOBODY ? LIVE_LIMITS.streamsOfVisitors : LIVE_LIMITS.streamsOfOne
    if (feeds.size < LIVE_LIMITS.streams && own < most) return
    throw new RequestError(429, 'too-many-streams', 'There are too many streams open.', { 'retry-after': '10' })
  }

  /** The addresses of the lists, each below the handler's base: nothing else is ever asked on somebody's behalf. */
  function addressesIn({ href, origin, searchParams }: URL): readonly URL[] {
    const most = HTTP_LIMITS.addressCharacters
    if (href.length > most) {
      throw new RequestError(414, 'address-too-long', `An address has at most ${most} characters.`)
    }
    const given = searchParams.getAll('list')
    if (given.length === 0 || given.length > LIVE_LIMITS.lists || given.length !== searchParams.size) {
      const message = `Name from 1 to ${LIVE_LIMITS.lists} lists, each as list= with its address, and nothing else.`
      throw new RequestError(400, 'query-invalid', message)
    }
    return given.map((address) => {
      const at = address.startsWith(`${handler.base}/`) ? new URL(address, origin) : undefined
      if (at?.origin === origin && at.pathname.startsWith(`${handler.base}/`)) return at
      throw new RequestError(400, 'query-invalid', `A list is the address of one, such as ${handler.base}/entries.`)
    })
  }
}

/** Visitors: nobody can tell one from another. */
const NOBODY = ''
