import { type QueryClient, useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import type { SessionEar } from '../client/index.js'
import { type AnyClient, ENDED, RECORDS, SESSION } from './context.js'
import { forgetDrafts } from './drafts.js'
import { goTo } from './place.js'

/** The caches that follow what becomes of a client's session, for as long as they are there. */
const following = new WeakMap<object, WeakSet<QueryClient>>()

/** The cache of the page. Every hook takes it from here, so that none shows one person what was another's. */
export function useQueries(client: AnyClient): QueryClient {
  const queries = useQueryClient()
  useEffect(() => {
    const known = following.get(client) ?? new WeakSet()
    following.set(client, known)
    if (known.has(queries)) return
    known.add(queries)
    client.onSession(followed(queries))
  }, [client, queries])
  return queries
}

/** What becomes of the cache, here as in the other windows of this browser. */
const followed =
  (queries: QueryClient): SessionEar =>
  (what, now) => {
    // Of what somebody else saw, nothing stays.
    if (what === 'signed-out') {
      forgetDrafts()
      queries.clear()
      // Not to the page that is open: it might lead to where the same is signed in again without being asked.
      return goTo('/')
    }
    // What was being typed stays where it is, and what was shown as well, until whoever it is signs in again.
    queries.setQueryData(ENDED, what === 'ended')
    if (what === 'ended') return undefined
    if (now) queries.setQueryData(SESSION, now)
    else void queries.resetQueries({ queryKey: SESSION })
    if (what === 'another') void queries.resetQueries({ queryKey: RECORDS })
    else void queries.invalidateQueries({ queryKey: RECORDS })
    return undefined
  }
