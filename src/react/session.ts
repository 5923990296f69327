import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useSyncExternalStore } from 'react'
import type { SessionState } from '../client/index.js'
import { type AnyClient, ALL, RECORDS, SESSION } from './context.js'
import { forgetDrafts } from './drafts.js'

/** Who has signed in, for a page. */
export interface Session extends SessionState {
  /** Whether it is known yet. */
  readonly isKnown: boolean
  /** Whether the server ended it while this page was open. */
  readonly hasEnded: boolean
  /** Where to sign in, and come back to the page that is open. */
  readonly signInAt: string
  /** Signs out in all windows of this browser, and goes where the server says. */
  signOut(): Promise<void>
}

const NOBODY: SessionState = { signedIn: false, name: null, caller: {}, roles: [] }
const ENDED = [...ALL, 'ended'] as const

interface Place {
  readonly location: {
    readonly pathname: string
    readonly search: string
    assign(address: string): void
  }
}

/** The page that is open; the first, where there is none, as on a server that draws pages. */
export const here = (): string => {
  const { location } = globalThis as unknown as Partial<Place>
  return location ? `${location.pathname}${location.search}` : '/'
}

/** Hooks on who has signed in. */
export function sessionHooks(client: AnyClient) {
  function useSession(): Session {
    const queries = useQueryClient()
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
        ;(globalThis as unknown as Place).location.assign(next)
      },
    }
  }

  /** Has the page follow what becomes of the session; once, at its root. */
  function useSessionEvents(): void {
    const queries = useQueryClient()
    useEffect(
      () =>
        client.onSession((what) => {
          // Of what somebody else saw, nothing stays.
          if (what === 'signed-out') {
            forgetDrafts()
            queries.clear()
            // Not to the page that is open: it might lead to where the same is signed in again without being asked.
            ;(globalThis as unknown as Place).location.assign('/')
          }
          // What was being typed stays where it is, and what was shown as well, until whoever it is signs in again.
          if (what === 'ended') queries.setQueryData(ENDED, true)
          if (what === 'signed-in') {
            queries.setQueryData(ENDED, false)
            void queries
              .invalidateQueries({ queryKey: SESSION })
              .then(() => queries.invalidateQueries({ queryKey: RECORDS }))
          }
        }),
      [queries],
    )
  }

  /** Whether changes come in at the moment. */
  const useConnected = (): boolean =>
    useSyncExternalStore(
      (changed) => client.onConnection(changed),
      () => client.isConnected,
      () => true,
    )

  return { useSession, useSessionEvents, useConnected }
}
