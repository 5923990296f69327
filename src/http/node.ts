import type { IncomingMessage, ServerResponse } from 'node:http'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { ReadableStream } from 'node:stream/web'
import { textOf } from './answer.js'
import { HttpConfigError } from './errors.js'

/** A request of a server of Node's. */
export interface Exchange {
  readonly incoming: IncomingMessage
  readonly outgoing: ServerResponse
  /** Path and query, as they came in. */
  readonly path: string | undefined
}

/**
 * A request as the web has it, without its body: who asks, and what for. Its address is that of the path alone, at
 * `localhost`: by which name a server is reached, only the server's configuration can say, and not a request.
 */
const toRequest = (exchange: Exchange): Request => requestOf(exchange, false)

/** The same for one request of a server's, whoever asks for it and however often. */
export function requestsOf<I extends object, O>(exchangeOf: (incoming: I, outgoing: O) => Exchange) {
  const requests = new WeakMap<I, Request>()
  return (incoming: I, outgoing: O): Request => {
    const request = requests.get(incoming) ?? toRequest(exchangeOf(incoming, outgoing))
    requests.set(incoming, request)
    return request
  }
}

/**
 * The same with its body.
 *
 * @throws {HttpConfigError} where something read the body before
 */
export function toWholeRequest(exchange: Exchange): Request {
  const { incoming } = exchange
  if (incoming.method === 'GET' || incoming.method === 'HEAD') return requestOf(exchange, false)
  if (incoming.readableDidRead) {
    throw new HttpConfigError('The body was read before; put records in front of what parses bodies.')
  }
  return requestOf(exchange, true)
}

function requestOf({ incoming, outgoing, path }: Exchange, hasBody: boolean): Request {
  // What is addressed to a proxy is for nothing here.
  const url = `http://localhost${path?.startsWith('/') ? path : '/'}`
  return new IncomingRequest(incoming, outgoing, url, hasBody) as unknown as Request
}

/** A request of a server as the web has it, of which only what is asked for is made. */
class IncomingRequest {
  readonly method: string
  #headers: Headers | undefined
  #ended: AbortController | undefined
  #whole: Request | undefined

  constructor(
    private readonly incoming: IncomingMessage,
    private readonly outgoing: ServerResponse,
    readonly url: string,
    private readonly hasBody: boolean,
  ) {
    this.method = incoming.method ?? 'GET'
  }

  get headers(): Headers {
    if (this.#headers) return this.#headers
    const { rawHeaders } = this.incoming
    const headers = new Headers()
    let authority: string | undefined
    for (let at = 0; at + 1 < rawHeaders.length; at += 2) {
      const [name, value] = [rawHeaders[at] as string, rawHeaders[at + 1] as string]
      // HTTP/2 says method, path and host in the same place.
      if (!name.startsWith(':')) headers.append(name, value)
      else if (name === ':authority') authority = value
    }
    if (authority !== undefined) headers.set('host', authority)
    return (this.#headers = headers)
  }

  /** Says when the client is gone. */
  get signal(): AbortSignal {
    if (this.#ended) return this.#ended.signal
    const ended = (this.#ended = new AbortController())
    this.outgoing.once('close', () => {
      if (!this.outgoing.writableEnded) ended.abort()
    })
    return ended.signal
  }

  /** All that is seldom asked for. */
  get whole(): Request {
    const { method, headers, signal, url, hasBody, incoming } = this
    const body = hasBody && { body: Readable.toWeb(incoming), duplex: 'half' }
    return (this.#whole ??= new Request(url, { method, headers, signal, ...body } as RequestInit))
  }
}

// What else a request has and does, the whole one does.
Object.setPrototypeOf(IncomingRequest.prototype, Request.prototype)
for (const [name, member] of Object.entries(Object.getOwnPropertyDescriptors(Request.prototype))) {
  if (Object.hasOwn(IncomingRequest.prototype, name)) continue
  const isMethod = typeof member.value === 'function'
  Object.defineProperty(IncomingRequest.prototype, name, {
    get(this: IncomingRequest): unknown {
      const value: unknown = Reflect.get(this.whole, name)
      return isMethod ? (value as (...given: unknown[]) => unknown).bind(this.whole) : value
    },
  })
}

/** Whether an answer has no end: it is sent as it comes. */
export const isStream = ({ body, headers }: Response): boolean =>
  body !== null && headers.get('content-type') === 'text/event-stream'

/** What an answer that has an end says. */
export async function bodyOf(response: Response): Promise<Buffer | undefined> {
  const text = textOf(response)
  if (text !== undefined) return Buffer.from(text)
  return response.body ? Buffer.from(await response.arrayBuffer()) : undefined
}

/** The stream of an answer that has no end, as servers of Node's send one. */
export const streamOf = ({ body }: Response): Readable => Readable.fromWeb(body as ReadableStream)

/** Of these there may be some already, of the server's own middleware; they stay. */
const ADDED = ['set-cookie', 'vary']

/** Sends an answer of the web. */
export async function send(response: Response, outgoing: ServerResponse): Promise<void> {
  outgoing.statusCode = response.status
  for (const [name, value] of response.headers) {
    if (ADDED.includes(name)) outgoing.appendHeader(name, value)
    else outgoing.setHeader(name, value)
  }
  if (isStream(response)) {
    outgoing.flushHeaders()
    // Whoever goes away ends it.
    return pipeline(streamOf(response), outgoing).catch(() => undefined)
  }
  const body = await bodyOf(response)
  if (body) outgoing.setHeader('content-length', body.byteLength)
  outgoing.end(body)
}
