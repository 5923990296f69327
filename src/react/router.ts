import { data, type LoaderFunctionArgs, redirectDocument } from 'react-router'
import { AnswerError, type Client } from '../client/index.js'
import { InputError, keyFieldsOf, type ModelData, readTyped, type TableName } from '../model/index.js'
import type { OwnAction, RoleOf } from '../rules/index.js'

/**
 * Guards a route: a loader of React Router's, which lets pass, sends to sign in and back (401 where no page does that), or throws
 * 403 or 404.
 */
export type RouteGuard<R> = (visit: LoaderFunctionArgs) => Promise<R>

/** Guards for the routes of an application with this client. */
export interface RouteGuards<M, C, A> {
  /** Somebody who has signed in. */
  signedIn(): RouteGuard<null>
  /** Somebody who has this role by now. */
  role(role: RoleOf<C>): RouteGuard<null>
  /**
   * Somebody who may do this to the record that the path names; the route gets it, with what may be done to it.
   *
   * @param parameter the part of the path that names it, as `:id` does
   */
  may<T extends TableName<M>>(
    action: 'get' | 'update' | 'delete' | OwnAction<A, T>,
    table: T,
    parameter: string,
  ): RouteGuard<Readonly<Record<string, unknown>>>
}

/**
 * Guards routes of React Router's, in its data mode. They spare people pages that would be empty; the records are guarded by
 * the server, whatever is routed where.
 *
 * @param client from `createClient`
 * @see https://reactrouter.com
 * @example
 * const { signedIn, role, may } = guardRoutes(client)
 * createBrowserRouter([
 *   { path: '/profile', loader: signedIn(), Component: Profile },
 *   { path: '/members', loader: role('secretary'), Component: Members, ErrorBoundary: Refused },
 *   { path: '/entries/:id/edit', loader: may('update', 'entries', 'id'), Component: EditEntry, ErrorBoundary: Refused },
 * ])
 */
export function guardRoutes<M, C, A>(client: Client<M, C, A>): RouteGuards<M, C, A> {
  const model = client.model as unknown as ModelData
  const get = client.get as unknown as (table: string, key: unknown, query: object) => Promise<Found>

  async function assertSignedIn({ request }: LoaderFunctionArgs) {
    const session = await client.session()
    if (session.signedIn) return session
    throw toSignIn(client, request)
  }

  return {
    signedIn: () => async (visit) => {
      await assertSignedIn(visit)
      return null
    },
    role: (role) => async (visit) => {
      const { roles } = await assertSignedIn(visit)
      if (!roles.includes(role)) throw refused(403, 'You may not see this page.')
      return null
    },
    may: (action, table, parameter) => async (visit) => {
      try {
        const record = await get(table, keyFrom(model, table, visit.params[parameter] ?? ''), { access: true })
        if (action === 'get' || record.$access.may[action] === true) return record
      } catch (error) {
        // What is no key is that of no record.
        if (error instanceof InputError) throw refused(404, 'There is nothing here.')
        if (!(error instanceof AnswerError)) throw error
        if (error.needsSignIn) throw toSignIn(client, visit.request)
        throw refused(error.status === 0 ? 503 : error.status, error.message)
      }
      throw refused(403, 'You may not do this.')
    },
  }
}

interface Found extends Readonly<Record<string, unknown>> {
  readonly $access: { readonly may: Readonly<Record<string, boolean>> }
}

/** What React Router shows its error boundary: `isRouteErrorResponse(error)`, with `error.data.detail`. */
const refused = (status: number, detail: string) => data({ detail }, { status })

/** To the page that signs in, and back; where there is none, it is refused. */
function toSignIn(client: Pick<Client, 'signInAt'>, { url }: Request): unknown {
  const { pathname, search } = new URL(url)
  const address = client.signInAt(`${pathname}${search}`)
  return address === undefined ? refused(401, 'You have to sign in to see this page.') : redirectDocument(address)
}

/** The key that a part of a path writes. */
function keyFrom(model: ModelData, table: string, written: string): Readonly<Record<string, unknown>> {
  const fields = keyFieldsOf(model, table)
  const parts = fields.length === 1 ? [written] : written.split(',')
  if (parts.length !== fields.length) throw refused(404, 'There is nothing here.')
  return Object.fromEntries(fields.map(([name, field], at) => [name, readTyped(field, parts[at] ?? '')]))
}
