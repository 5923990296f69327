import { useQuery } from '@tanstack/react-query'
import { useSyncExternalStore } from 'react'
import type { SessionState } from '../client/index.js'
import { useQueries } from './cache.js'
import { type AnyClient, ENDED, SESSION } from './context.js'
import { goTo, here } from './place.js'

/** Who has signed in, for a page. */
export interface Session extends SessionState {
  /** Whether it is known yet. */
  readonly isKnown: boolean
  /** Whether the server ended it while this page was open. */
  readonly hasEnded: boolean
  /** Where to sign in, and come back to the page that is open; nothing where no page signs in. */
  readonly signInAt: string | undefined
  /** Signs out in all windows of this browser, and goes where the server says. */
  signOut(): Promise<void>
}

const NOBODY: SessionState = { signedIn: false, name: null, caller: {}, roles: [] }

/** Hooks on who has signed in. */
export function sessionHooks(client: AnyClient) {
  function useSession(): Session {
    const queries = useQueries(client)
    const { data } = useQuery({ queryKey: SESSION, queryFn: () => client.session(), staleTime: 60_000 })
    const { data: hasEnded = false } = useQuery({ queryKey: ENDED, queryFn: () => false, staleTime: Infinity })
    return {
      ...(data ?? NOBODY),
      isKnown: data !== undefined,
      hasEnded,
      signInAt: client.signInAt(here()),
      signOut: async () => {
        const next = await client.signOut()
        queries.clear()
        goTo(next)
      },
    }
  }

  /** Whether changes come in at the moment. */
  const useConnected = (): boolean =>
    useSyncExternalStore(
      (changed) => client.onConnection(changed),
      () => client.isConnected,
      () => true,
    )

  return { useSession, useConnected }
}
