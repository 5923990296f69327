import type { UntypedStore } from '../guard/index.js'
import { type Handler, type Opened, RequestError, textOf } from '../http/index.js'
import type { CallerDefinition, Rulebook } from '../rules/index.js'
import type { Checked } from './options.js'
import { LIVE_LIMITS } from './limits.js'
import { type Listed, LiveList, type Message } from './list.js'
import type { Queue } from './queue.js'
import { basisOf } from './trails.js'
import type { Watch } from './watch.js'

/** What every stream of an application shares. */
export interface Surroundings<M, C extends CallerDefinition, A, N> {
  readonly handler: Handler<M, C, A, N>
  readonly settings: Checked
  readonly watch: Watch
  readonly queue: Queue
}

/** Who asked for a stream, and for what. */
export interface FeedRequest<M, C, A, N> {
  readonly request: Request
  readonly native: N | undefined
  /** Who that is, found out just now. */
  readonly opened: Opened<M, C, A>
  readonly addresses: readonly URL[]
}

/**
 * One stream of events. Each of its lists is what its address answers when it is asked at that moment, with what the request
 * came with: so nothing is sent that a `list` would not return, and nobody is asked on behalf of who they were.
 */
export class Feed<M, C extends CallerDefinition, A, N> {
  readonly #lists: readonly LiveList[]
  readonly #whose: { caller: unknown; isCallerKnown: boolean }
  #isIdentified = false
  readonly #headers: Headers
  readonly #rulebook: Rulebook
  #controller: ReadableStreamDefaultController<Uint8Array> | undefined
  #store: UntypedStore | undefined
  #opened: Opened<M, C, A> | undefined
  #turn = 0
  #isPumping = false
  #isOver = false
  #drained: (() => void) | undefined
  #timers: NodeJS.Timeout[] = []

  constructor(
    private readonly around: Surroundings<M, C, A, N>,
    private readonly asked: FeedRequest<M, C, A, N>,
    private readonly onEnd: () => void,
  ) {
    const { request, addresses, opened } = asked
    this.#opened = opened
    this.#rulebook = around.handler.guard.rules
    this.#whose = { caller: opened.caller, isCallerKnown: false }
    const known = request.headers.get('last-event-id')?.split('.') ?? []
    this.#lists = addresses.map(
      (url, at) =>
        new LiveList(at, url, isMark(known[at]) ? known[at] : undefined, this.#whose, () => void this.#pump()),
    )
    this.#headers = new Headers(request.headers)
    for (const name of ['accept', 'if-none-match', 'last-event-id']) this.#headers.delete(name)
  }

  /** Begins to send. */
  open(): ReadableStream<Uint8Array> {
    const { streamSeconds, heartbeatSeconds, recheckSeconds } = this.around.settings
    const every = (seconds: number, work: () => void) => this.#timers.push(setInterval(work, seconds * 1000))
    return new ReadableStream<Uint8Array>(
      {
        start: (controller) => {
          this.#controller = controller
          this.#write(`retry: 1000\n\n`)
          every(heartbeatSeconds, () => this.#hasRoom && this.#write(':\n\n'))
          // Those that came together are not looked at together for ever.
          const first = Math.random() * recheckSeconds * 1000
          const begin = () => {
            this.recheck()
            if (!this.#isOver) every(recheckSeconds, () => this.recheck())
          }
          this.#timers.push(setTimeout(begin, first))
          // The client comes again, with what its server's middleware says of it by then.
          const jitter = 0.9 + Math.random() * 0.2
          this.#timers.push(setTimeout(() => this.close(), streamSeconds * jitter * 1000))
          void this.#pump()
        },
        pull: () => this.#drained?.(),
        cancel: () => this.close(),
      },
      new ByteLengthQueuingStrategy({ highWaterMark: LIVE_LIMITS.waitingBytes }),
    )
  }

  /** Looks whether the session still is, and asks again for what changes as time goes by. */
  recheck(): void {
    this.#isIdentified = false
    for (const list of this.#lists) if (list.isTimed) list.isTouched = true
    void this.#pump()
  }

  close(): void {
    if (this.#isOver) return
    this.#isOver = true
    for (const timer of this.#timers) clearTimeout(timer)
    for (const list of this.#lists) this.around.watch.delete(list)
    this.#drained?.()
    try {
      this.#controller?.close()
    } catch {
      // Whoever was sent to closed it first.
    }
    this.onEnd()
  }

  get #hasRoom(): boolean {
    return (this.#controller?.desiredSize ?? 0) > 0
  }

  #write(text: string): void {
    if (!this.#isOver) this.#controller?.enqueue(new TextEncoder().encode(text))
  }

  #send({ event, data }: Message | { readonly event: 'ended'; readonly data: object }): void {
    const id = this.#lists.map(({ mark }) => mark).join('.')
    this.#write(`event: ${event}\nid: ${id}\ndata: ${JSON.stringify(data)}\n\n`)
  }

  /** Asks for whatever has to be asked for, until there is nothing left. */
  async #pump(): Promise<void> {
    if (this.#isPumping || this.#isOver) return
    this.#isPumping = true
    try {
      while (!this.#isOver) {
        if (!this.#isIdentified || !this.#whose.isCallerKnown) await this.#identify()
        const list = this.#next()
        if (!list || this.#isOver) break
        // For whoever does not read what was sent, nothing more is asked.
        if (!this.#hasRoom) await new Promise<void>((resolve) => (this.#drained = resolve))
        if (!this.#isOver) await this.around.queue.run(() => this.#ask(list))
      }
    } catch (error) {
      this.around.settings.onError(error)
      this.close()
    } finally {
      this.#isPumping = false
    }
  }

  /** A list that has to be asked; each in its turn, so that one that never stays the same keeps no other waiting. */
  #next(): LiveList | undefined {
    const inTurn = [...this.#lists.slice(this.#turn), ...this.#lists.slice(0, this.#turn)]
    const list = inTurn.find(({ isTouched, isOver }) => isTouched && !isOver)
    if (list) this.#turn = this.#lists.indexOf(list) + 1
    return list
  }

  /** Finds out who is asking, by now; ends the stream where that is nobody any more. */
  async #identify(): Promise<void> {
    const { request } = this.asked
    const { handler } = this.around
    const knew = this.#whose.isCallerKnown
    this.#isIdentified = this.#whose.isCallerKnown = true
    try {
      const { caller, store } = this.#opened ?? (await this.#openAnew())
      this.#opened = undefined
      this.#store = store as unknown as UntypedStore
      if (!knew) this.#whose.caller = await withRolesOf(this.#rulebook, caller, this.#store)
    } catch (error) {
      const response = await handler.refuse(error, request)
      if (response.status < 500) this.#send({ event: 'ended', data: { problem: await problemIn(response) } })
      this.close()
    }
  }

  async #openAnew(): Promise<Opened<M, C, A>> {
    const { request, native } = this.asked
    const { handler } = this.around
    await handler.identity.renew(request, native)
    return handler.open(request, native)
  }

  async #ask(list: LiveList): Promise<void> {
    list.isTouched = false
    list.isAsking = true
    try {
      const response = await this.#answerOf(list)
      if (this.#isOver) return
      if (response.status === 200) {
        const text = textOf(response) ?? (await response.text())
        const message = list.become(
          this.#rulebook,
          response.headers.get('etag') ?? '',
          () => JSON.parse(text) as Listed,
        )
        if (message) this.#send(message)
      } else if (response.status >= 500) {
        // The client comes again, a while later.
        this.close()
      } else {
        // Whether it is the list that is refused, or whoever asks.
        await this.#identify()
        if (this.#isOver) return
        this.around.watch.delete(list)
        this.#send(list.end(await problemIn(response)))
      }
    } finally {
      list.isAsking = false
    }
  }

  /** What its address answers, to whoever asks by now. */
  async #answerOf(list: LiveList): Promise<Response> {
    const { handler } = this.around
    const { request, native } = this.asked
    const asking = new Request(list.url, { headers: this.#headers, signal: request.signal })
    try {
      await handler.identity.renew(asking, native)
      if (list.table === '' && !this.#learn(list)) throw noList()
      return await handler.handle(asking, native)
    } catch (error) {
      return handler.refuse(error, asking)
    }
  }

  /**
   * Finds out what a list rests on, and follows it from there on.
   *
   * @returns whether its address is that of a list at all: nothing else is asked
   */
  #learn(list: LiveList): boolean {
    const { handler, watch } = this.around
    try {
      const listed = handler.listAt(list.url)
      if (!listed) return false
      const { table, options } = listed
      const basis = this.#store?.basis(table, options as never)
      const { trails, isTimed } = basis ? basisOf(this.#rulebook.model, basis) : { trails: [], isTimed: false }
      Object.assign(list, { table, trails, isTimed, isFiltered: options.where !== undefined })
      watch.add(list)
    } catch {
      // Its address says why, once it is asked.
    }
    return true
  }
}

/** Whether a client may have it from here: it is sent back with every event. */
const isMark = (given: string | undefined): given is string => given !== undefined && /^[\w-]{16}$/.test(given)

const noList = () => new RequestError(404, 'path-unknown', 'There is no list at this path.')

const problemIn = async (response: Response): Promise<unknown> =>
  response.headers.get('content-type')?.includes('json') ? response.json() : { status: response.status }

/** A caller with the roles they have now, also those that their own record says. */
async function withRolesOf(rulebook: Rulebook, caller: unknown, store: UntypedStore): Promise<unknown> {
  const isSomebody = typeof caller === 'object' && caller !== null && 'id' in caller
  return rulebook.caller.record && isSomebody ? { ...caller, roles: await store.roles() } : caller
}
