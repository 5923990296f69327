import { createHash } from 'node:crypto'
import { parse } from 'cookie'
import { LRUCache } from 'lru-cache'
import { IdentityUnavailableError } from './errors.js'
import { assertFromHere } from './forgery.js'
import { assertAddress, assertAmount } from './settings.js'
import { type Claims, type Finding, findingOf, notMine, refused, type Source, type ToCaller } from './source.js'

/** How large an answer may be, in bytes. */
const ANSWER_BYTES = 64 * 1024

/** Another application that says who asks. */
export interface RemoteOptions<C> {
  /** The address that is asked, by GET. It answers with JSON, or with 401 or 403 where the credentials are no good. */
  readonly url: string
  /** The cookies that are handed on, by name; a request without any of them is not asked about. */
  readonly cookies?: readonly string[]
  /** Whether `Authorization` is handed on. */
  readonly authorization?: boolean
  /** The caller, by what the application answered; nothing where nobody here is meant. */
  readonly caller: ToCaller<C>
  /** How long to wait for an answer, 0.05 to 30 seconds; left out, 2. */
  readonly timeoutSeconds?: number
  /** For how many seconds an answer counts, 0 to 300; left out, 0: it is asked with each request. */
  readonly keepSeconds?: number
  /** How many answers are kept at most, 1 to 100,000; left out, 1,000. */
  readonly keepAtMost?: number
}

/**
 * Asks an application that knows who signed in, with the cookie or token of the request. Whatever is not a clear yes is a
 * refusal: 401 for a no, 503 for no answer, or one that cannot be read.
 *
 * @throws {IdentityConfigError} at once, where the options cannot work
 * @example
 * remote<typeof caller>({ url: 'https://korenveld.example/who', cookies: ['sid'], caller: ({ id }) => ({ id: Number(id) }) })
 */
export function remote<C>(options: RemoteOptions<C>): Source<C> {
  const {
    cookies = [],
    authorization = false,
    caller,
    timeoutSeconds = 2,
    keepSeconds = 0,
    keepAtMost = 1_000,
  } = options
  const url = assertAddress('url', options.url)
  assertAmount('timeoutSeconds', timeoutSeconds, 0.05, 30)
  assertAmount('keepSeconds', keepSeconds, 0, 300)
  assertAmount('keepAtMost', keepAtMost, 1, 100_000, 'answers')
  const kept = keepSeconds > 0 ? new LRUCache<string, object>({ max: keepAtMost, ttl: keepSeconds * 1000 }) : undefined
  return {
    name: `remote ${url.host}`,
    identify: async (asking): Promise<Finding<C>> => {
      const headers = handedOn(asking.request)
      if (!headers) return notMine
      if (headers['cookie']) assertFromHere(asking.request)
      // Never the credentials themselves: what is kept says nothing to whoever reads memory.
      const name = kept && createHash('sha256').update(JSON.stringify(headers)).digest('base64')
      const known = name && (kept.get(name) as Claims | undefined)
      const claims = known ?? (await answerOf(headers))
      if (!claims) return refused(`${url.host} does not accept these credentials`)
      // It counts from when it was answered, however often it is asked for.
      if (name && !known) kept.set(name, claims)
      return findingOf(claims, caller, asking)
    },
  }

  function handedOn({ headers }: Request): Record<string, string> | undefined {
    // As they came, whatever the other application makes of them.
    const given = parse(headers.get('cookie') ?? '', { decode: (value) => value })
    const mine = cookies.flatMap((name) => (given[name] === undefined ? [] : `${name}=${given[name]}`))
    const bearer = authorization ? headers.get('authorization') : null
    if (mine.length === 0 && bearer === null) return undefined
    return { ...(mine.length > 0 && { cookie: mine.join('; ') }), ...(bearer !== null && { authorization: bearer }) }
  }

  /** What the application says; nothing where it says no. */
  async function answerOf(headers: Record<string, string>): Promise<Claims | undefined> {
    try {
      const response = await fetch(url, {
        headers: { accept: 'application/json', ...headers },
        redirect: 'error',
        signal: AbortSignal.timeout(timeoutSeconds * 1000),
      })
      if (response.status === 401 || response.status === 403) return undefined
      if (response.status !== 200) throw new Error(`${url.host} answered ${response.status}`)
      const claims: unknown = JSON.parse(await limitedText(response))
      if (typeof claims === 'object' && claims !== null && !Array.isArray(claims)) return claims as Claims
      throw new Error(`${url.host} did not answer with a JSON object`)
    } catch (cause) {
      throw new IdentityUnavailableError(cause)
    }
  }
}

async function limitedText(response: Response): Promise<string> {
  const decoder = new TextDecoder()
  let text = ''
  let bytes = 0
  for await (const chunk of (response.body ?? []) as AsyncIterable<Uint8Array>) {
    bytes += chunk.byteLength
    if (bytes > ANSWER_BYTES) throw new Error(`the answer has more than ${ANSWER_BYTES} bytes`)
    text += decoder.decode(chunk, { stream: true })
  }
  return text + decoder.decode()
}
