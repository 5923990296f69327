import type { IncomingMessage, ServerResponse } from 'node:http'
import { Readable } from 'node:stream'
import { HttpConfigError, RequestError } from './errors.js'

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
 *
 * @throws {RequestError} 400 where the request is for no path
 */
const toRequest = (exchange: Exchange): Request => requestOf(exchange, {})

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
  if (incoming.method === 'GET' || incoming.method === 'HEAD') return requestOf(exchange, {})
  if (incoming.readableDidRead) {
    throw new HttpConfigError('The body was read before; put records in front of what parses bodies.')
  }
  return requestOf(exchange, { body: Readable.toWeb(incoming) as ReadableStream, duplex: 'half' } as RequestInit)
}

function requestOf({ incoming, outgoing, path }: Exchange, body: RequestInit): Request {
  if (!path?.startsWith('/')) throw new RequestError(400, 'query-invalid', 'The address is no path.')
  const { method = 'GET', rawHeaders } = incoming
  const headers = new Headers()
  for (let at = 0; at + 1 < rawHeaders.length; at += 2) {
    headers.append(rawHeaders[at] as string, rawHeaders[at + 1] as string)
  }
  const ended = new AbortController()
  outgoing.once('close', () => {
    if (!outgoing.writableFinished) ended.abort()
  })
  return new Request(`http://localhost${path}`, { method, headers, signal: ended.signal, ...body })
}

/** Sends an answer of the web. */
export async function send(response: Response, outgoing: ServerResponse): Promise<void> {
  const body = response.body ? Buffer.from(await response.arrayBuffer()) : undefined
  outgoing.statusCode = response.status
  for (const [name, value] of response.headers) if (name !== 'set-cookie') outgoing.setHeader(name, value)
  const cookies = response.headers.getSetCookie()
  if (cookies.length > 0) outgoing.setHeader('set-cookie', cookies)
  if (body) outgoing.setHeader('content-length', body.byteLength)
  outgoing.end(body)
}
