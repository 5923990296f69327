import { RequestError } from './errors.js'
import { isAmong, tagOf, type WriteJson } from './json.js'
import type { Settings } from './options.js'
import { plainPage, wantsPage } from './pages.js'
import { problemOf } from './problem.js'

/**
 * What everything says that a caller is told: it is for this caller alone, nobody keeps it without asking again, and another
 * caller gets another.
 */
const PRIVATE: Readonly<Record<string, string>> = {
  'cache-control': 'private, no-cache',
  vary: 'Accept, Authorization, Cookie, Prefer',
  'x-content-type-options': 'nosniff',
}

/** An answer with a record, or several. */
export interface Told {
  readonly content: unknown
  readonly status?: 200 | 201
  readonly headers?: Readonly<Record<string, string>>
}

const texts = new WeakMap<Response, string>()

/** The text of an answer that was made here, at hand for servers that need no stream. */
export const textOf = (response: Response): string | undefined => texts.get(response)

/** An answer with JSON; only that nothing changed, where whoever asks has it already. */
export function tell(request: Request, write: WriteJson, { content, status = 200, headers }: Told): Response {
  const body = write(content)
  const etag = tagOf(body)
  const reads = request.method === 'GET' || request.method === 'HEAD'
  const known = reads ? request.headers.get('if-none-match') : null
  const said = { ...PRIVATE, ...headers, etag }
  if (known !== null && isAmong(known, etag)) return new Response(null, { status: 304, headers: said })
  const headed = { status, headers: { ...said, 'content-type': 'application/json' } }
  if (request.method === 'HEAD') return new Response(null, headed)
  const response = new Response(body, headed)
  texts.set(response, body)
  return response
}

/** An answer without content. */
export const done = (headers: Readonly<Record<string, string>> = {}, status = 204): Response =>
  new Response(null, { status, headers: { ...PRIVATE, ...headers } })

/**
 * The answer to an error, with what may be told of it; the rest goes to whoever runs the server.
 *
 * @param challenge what `WWW-Authenticate` offers
 */
export function refuse(
  error: unknown,
  request: Request,
  { pages, onError }: Pick<Settings, 'pages' | 'onError'>,
  challenge: string,
): Response {
  const problem = problemOf(error)
  // Whoever is gone called it off; nothing failed.
  const isGone = request.signal.aborted && error === request.signal.reason
  if (problem.status >= 500 && !isGone) onError(error, request)
  const headers = { ...PRIVATE, ...headersOf(error, problem.status, challenge) }
  if (!wantsPage(request)) {
    const body = request.method === 'HEAD' ? null : JSON.stringify(problem)
    return new Response(body, {
      status: problem.status,
      headers: { ...headers, 'content-type': 'application/problem+json' },
    })
  }
  if (problem.status === 401 && pages.signInAt) {
    const { pathname, search } = new URL(request.url)
    return new Response(null, {
      status: 303,
      headers: { ...headers, location: pages.signInAt(`${pathname}${search}`) },
    })
  }
  const page = (pages.refused ?? plainPage)(problem)
  return new Response(request.method === 'HEAD' ? null : page, {
    status: problem.status,
    headers: { ...headers, 'content-type': 'text/html; charset=utf-8' },
  })
}

function headersOf(error: unknown, status: number, challenge: string): Readonly<Record<string, string>> {
  if (error instanceof RequestError) return error.headers
  if (status === 401) return { 'www-authenticate': challenge }
  if (status === 503) return { 'retry-after': String((error as { readonly retryAfter?: number }).retryAfter ?? 5) }
  return {}
}
