import { createHash } from 'node:crypto'
import { LRUCache } from 'lru-cache'
import type { Claims } from '../source.js'

/** Somebody who has signed in. */
export interface SignedIn {
  /** What the identity provider proved. */
  readonly claims: Claims
  /** What writes have to carry. */
  readonly token: string
  /** What the provider takes as a hint of whom to sign out. */
  readonly idToken: string
}

/**
 * Where sessions are kept. What one process keeps, others do not know: with several, give one that they share.
 *
 * A session is found by a name made of its cookie, from which the cookie cannot be made.
 */
export interface SessionStore {
  get(name: string): Promise<SignedIn | undefined>
  set(name: string, session: SignedIn, seconds: number): Promise<void>
  delete(name: string): Promise<void>
}

/** How many sessions one process keeps; those unused for longest go first. */
const MOST = 100_000

/** Sessions in the memory of this process: they end when it does. */
export function sessionsInMemory(): SessionStore {
  const sessions = new LRUCache<string, SignedIn>({ max: MOST })
  return {
    get: (name) => Promise.resolve(sessions.get(name)),
    set: async (name, session, seconds) => {
      sessions.set(name, session, { ttl: seconds * 1000 })
      return Promise.resolve()
    },
    delete: async (name) => {
      sessions.delete(name)
      return Promise.resolve()
    },
  }
}

/** The name of a session, by the secret in its cookie. */
export const nameOf = (secret: string): string => createHash('sha256').update(secret).digest('base64url')
