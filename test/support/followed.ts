import { createClient } from 'pachter/client'
import { createGuard, type Rules } from 'pachter'
import { createHandler } from 'pachter/http'
import { createIdentity, notMine, refused, type Source, thisCaller } from 'pachter/identity'
import { createLive, type Followed, type LiveOptions } from 'pachter/live'

type AnyClient = ReturnType<typeof createClient<never>>

/** A client of whatever model. */
export interface Follower {
  list(table: string, query?: object): Promise<{ readonly records: readonly object[] }>
  follow(table: string, query: object, ears: object): () => void
  onSession(hear: (what: string) => void): () => void
  close(): void
}

/** Lists that follow changes, without a server in between: whoever asks is said by a header, by name. */
export async function following(
  rules: Rules<never, never>,
  store: Followed,
  callers: Readonly<Record<string, object>>,
  options: Partial<LiveOptions<never, never, never, never>> = {},
) {
  const ended = new Set<string>()
  const failures: unknown[] = []
  /** How often each caller's lists were asked. */
  const asked: Record<string, number> = {}
  const byName: Source<never> = {
    name: 'name',
    identify: ({ request }) => {
      const name = request.headers.get('x-caller') ?? ''
      if (ended.has(name)) return refused('the session has ended')
      const caller = callers[name]
      return caller && !('anonymous' in caller) ? thisCaller<never>(caller as never) : notMine
    },
  }
  const identity = await createIdentity<never, never>({ rules: rules as never, sources: [byName] })
  const onError = (error: unknown) => void failures.push(error)
  const guard = createGuard({ rules, store, onDecision: () => undefined })
  const handler = createHandler({ guard, identity, refusalMilliseconds: 0, onError }) as never as Handling
  const counting: Handling = {
    ...handler,
    handle: (request, native) => {
      const name = request.headers.get('x-caller') ?? ''
      asked[name] = (asked[name] ?? 0) + 1
      return handler.handle(request, native)
    },
  }
  const live = await createLive({ ...options, handler: counting as never, store, onError })
  const clientOf = (name: string): Follower => {
    const fetch = async (url: string, init?: RequestInit) => {
      const request = new Request(`http://localhost${url}`, init)
      return (await live.handle(request)) ?? handler.handle(request)
    }
    const client: AnyClient = createClient({
      model: rules.model as never,
      signIn: null,
      headers: () => ({ 'x-caller': name }),
      fetch: fetch as never,
    })
    return client as unknown as Follower
  }
  return { guard, handler, live, clientOf, asked, ended, failures }
}

interface Handling {
  handle(request: Request, native?: unknown): Promise<Response>
}

/** Waits until something is so, for as long as a busy machine may take. */
export async function until(is: () => boolean | Promise<boolean>, seconds = 20): Promise<boolean> {
  const end = Date.now() + seconds * 1000
  while (Date.now() < end) {
    if (await is()) return true
    await new Promise((resolve) => setTimeout(resolve, 5))
  }
  return is()
}
