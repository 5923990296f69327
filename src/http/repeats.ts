import { createHash } from 'node:crypto'
import { LRUCache } from 'lru-cache'
import type { Caller } from '../rules/index.js'
import { badBody, RequestError } from './errors.js'
import { HTTP_LIMITS } from './limits.js'

/** What is known of a create that came with an `Idempotency-Key`. */
export interface Repeat {
  /** What was sent, so that the key is not used for anything else. */
  readonly sent: string
  /** The key of the record, as paths write it; nothing while it is being stored. */
  readonly key?: string
}

/**
 * Where it is kept which creates were done already. What one process keeps, others do not know: with several, give one
 * that they share.
 */
export interface RepeatStore {
  /** Notes a create that begins, unless there is one under this name: then that is the answer. One step, also when two come. */
  begin(name: string, repeat: Repeat, seconds: number): Promise<Repeat | undefined>
  /** Notes that it was done. */
  end(name: string, repeat: Repeat, seconds: number): Promise<void>
  /** Forgets it, since nothing was stored. */
  forget(name: string): Promise<void>
}

/** How long creates are remembered. */
const SECONDS = 86_400

/** How long one may be running: after that, its process is taken to have ended in the middle. */
const RUNNING_SECONDS = 60

/** How many one process remembers. */
const MOST = 100_000

/** Creates in the memory of this process. */
export function repeatsInMemory(): RepeatStore {
  const repeats = new LRUCache<string, Repeat>({ max: MOST })
  const keep = (name: string, repeat: Repeat, seconds: number) => repeats.set(name, repeat, { ttl: seconds * 1000 })
  return {
    begin: (name, repeat, seconds) => {
      const before = repeats.get(name)
      if (!before) keep(name, repeat, seconds)
      return Promise.resolve(before)
    },
    end: (name, repeat, seconds) => Promise.resolve(void keep(name, repeat, seconds)),
    forget: (name) => Promise.resolve(void repeats.delete(name)),
  }
}

/**
 * Stores something once, however often the same is sent under one key by one caller.
 *
 * @param given the key, if the request has one
 * @param store stores it, and says the key of the record
 * @param report hears of a note that could not be kept: what was stored is stored all the same
 * @returns the key of the record
 * @throws {RequestError} 409 while the first is running, 422 where something else was sent under the key
 * @see https://datatracker.ietf.org/doc/draft-ietf-httpapi-idempotency-key-header/
 */
export async function onlyOnce(
  repeats: RepeatStore,
  { caller, table, given, body }: { caller: Caller; table: string; given: string; body: unknown },
  store: () => Promise<string>,
  report: (error: unknown) => void,
): Promise<string> {
  if (given === '' || given.length > HTTP_LIMITS.repeatKeyCharacters) {
    throw badBody(`An Idempotency-Key has 1 to ${HTTP_LIMITS.repeatKeyCharacters} characters.`)
  }
  // Whoever is nobody has no key of their own: others could ask for what was stored under it.
  if (!caller.signedIn) throw badBody('An Idempotency-Key is for callers who have signed in.')
  const name = hashed([caller.attributes, table, given])
  const sent = hashed(body)
  const before = await repeats.begin(name, { sent }, RUNNING_SECONDS)
  if (before) {
    if (before.sent !== sent) {
      throw new RequestError(422, 'repeat-differs', 'This Idempotency-Key was used for something else.')
    }
    if (before.key === undefined) {
      throw new RequestError(409, 'repeat-running', 'The first request with this Idempotency-Key is still running.', {
        'retry-after': '1',
      })
    }
    return before.key
  }
  const note = (done: () => Promise<void>) => done().catch(report)
  try {
    const key = await store()
    await note(async () => repeats.end(name, { sent, key }, SECONDS))
    return key
  } catch (error) {
    await note(async () => repeats.forget(name))
    throw error
  }
}

const hashed = (content: unknown): string =>
  createHash('sha256')
    .update(JSON.stringify(content, (_, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value)))
    .digest('base64url')
