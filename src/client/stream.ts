import { EventSourceParserStream } from 'eventsource-parser/stream'
import { AnswerError, otherwise, problemIn, type ToldProblem, unreachable } from './errors.js'
import type { ListChange } from './lists.js'

/** What is told of one list. */
export interface ListEars {
  records(records: readonly unknown[], more: boolean): void
  changes(change: ListChange, more: boolean): void
  /** It is as it was before the connection was lost. */
  current(): void
  /** It is not listed to this caller, or not any more. */
  refused(error: AnswerError): void
}

/** What is told of the stream as a whole. */
export interface StreamEars {
  /** The session is over. */
  ended(error: AnswerError): void
  /** Whether changes come in at the moment. */
  connected(is: boolean): void
}

/** A list of a stream. */
interface Followed {
  readonly address: string
  readonly ears: ListEars
  /** The mark of what is known of it. */
  mark: string
  isOver: boolean
}

/** What one stream takes, as the server has it: lists, and characters of their addresses. */
const MOST_LISTS = 20
const MOST_CHARACTERS = 7000

const LEAST_MILLISECONDS = 500
const MOST_MILLISECONDS = 15_000

/** One connection for many lists: it is opened anew where lists come or go, or where it was lost. */
export class Stream {
  readonly #lists = new Set<Followed>()
  #abort: AbortController | undefined
  #waits: ReturnType<typeof setTimeout> | undefined
  #failures = 0

  /** @param open asks for a stream of lists, with the marks of what is known of each */
  constructor(
    private readonly open: (addresses: readonly string[], known: string, signal: AbortSignal) => Promise<Response>,
    private readonly ears: StreamEars,
  ) {}

  /** Whether one more list fits into it. */
  hasRoomFor(address: string): boolean {
    const addresses = [...this.#lists].map((list) => list.address)
    const characters = [...addresses, address].map(encodeURIComponent).join('&list=').length
    return addresses.length < MOST_LISTS && (addresses.length === 0 || characters < MOST_CHARACTERS)
  }

  /** Follows a list, until what is returned is called. */
  follow(address: string, ears: ListEars): () => void {
    const list: Followed = { address, ears, mark: '', isOver: false }
    this.#lists.add(list)
    this.#again(0)
    return () => {
      this.#lists.delete(list)
      this.#again(0)
    }
  }

  /** Asks for everything anew, as whoever it is by now. */
  restart(): void {
    for (const list of this.#lists) Object.assign(list, { mark: '', isOver: false })
    this.#again(0)
  }

  close(): void {
    clearTimeout(this.#waits)
    this.#abort?.abort()
    this.#abort = undefined
  }

  /** Lists that come or go together are asked for together. */
  #again(milliseconds: number): void {
    clearTimeout(this.#waits)
    this.#waits = setTimeout(() => void this.#connect(), milliseconds)
  }

  async #connect(): Promise<void> {
    this.close()
    const lists = [...this.#lists].filter(({ isOver }) => !isOver)
    if (lists.length === 0) return
    const abort = (this.#abort = new AbortController())
    try {
      await this.#read(lists, abort.signal)
    } catch (error) {
      if (abort.signal.aborted) return
      if (error instanceof AnswerError && error.needsSignIn) return this.#end(error)
      if (error instanceof AnswerError && error.status >= 400 && error.status < 500 && error.status !== 429) {
        // It would be no other the next time.
        for (const list of lists) this.#refuse(list, error)
        return undefined
      }
    }
    if (abort.signal.aborted) return
    this.ears.connected(false)
    this.#failures += 1
    const most = Math.min(MOST_MILLISECONDS, LEAST_MILLISECONDS * 2 ** (this.#failures - 1))
    // Not all at once, where a server comes back.
    this.#again(most * (0.5 + Math.random() / 2))
  }

  async #read(lists: readonly Followed[], signal: AbortSignal): Promise<void> {
    const known = lists.map(({ mark }) => mark).join('.')
    const addresses = lists.map(({ address }) => address)
    const response = await this.open(addresses, known, signal).catch(() => {
      throw unreachable()
    })
    if (!response.ok || !response.body) throw new AnswerError(await problemIn(response))
    if (!response.headers.get('content-type')?.startsWith('text/event-stream')) throw otherwise(response, 'a stream')
    const events = response.body.pipeThrough(new TextDecoderStream()).pipeThrough(new EventSourceParserStream())
    const reader = events.getReader()
    for (let next = await reader.read(); !next.done; next = await reader.read()) {
      if (signal.aborted) return
      const { event, id, data } = next.value
      this.#failures = 0
      for (const [at, mark] of (id ?? '').split('.').entries()) if (lists[at]) lists[at].mark = mark
      if (this.#hear(lists, event, JSON.parse(data) as Message)) return
    }
  }

  /** @returns whether that was the last */
  #hear(lists: readonly Followed[], event: string | undefined, message: Message): boolean {
    if (event === 'ended') {
      this.#end(new AnswerError(message.problem as ToldProblem))
      return true
    }
    const list = lists[message.list]
    this.ears.connected(true)
    if (!list) return false
    if (event === 'records') list.ears.records(message.records ?? [], message.more === true)
    if (event === 'changes') list.ears.changes(message as unknown as ListChange, message.more === true)
    if (event === 'current') list.ears.current()
    if (event === 'refused') this.#refuse(list, new AnswerError(message.problem as ToldProblem))
    return false
  }

  #refuse(list: Followed, error: AnswerError): void {
    list.isOver = true
    list.ears.refused(error)
  }

  #end(error: AnswerError): void {
    this.close()
    this.ears.connected(false)
    this.ears.ended(error)
  }
}

interface Message {
  readonly list: number
  readonly records?: readonly unknown[]
  readonly more?: boolean
  readonly problem?: ToldProblem
}
