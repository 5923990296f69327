import { ForbiddenError, refusal, SignInError } from '../decide/index.js'
import type { UntypedStore } from '../guard/index.js'
import type { TableName } from '../model/index.js'
import {
  type Action,
  type Caller,
  checkCaller,
  type OwnAction,
  type RoleOf,
  type Rulebook,
  type StandardAction,
} from '../rules/index.js'
import type { Handler, Opened } from './handler.js'
import { keyFromRead, refusalOfAbsent } from './path.js'

/** What a route of your own is open to. `C`, `A` and `M` are those of the guard that it is for. */
export interface Requirement<M, C, A> {
  /** For the compiler: the guard that it is for. */
  readonly of?: (guard: [M, C, A]) => void
  /**
   * @param visit who asks, and the path
   * @returns the record that it is about, where it is about one
   * @throws {RefusedError} where it does not hold
   */
  check(visit: Arrival): Promise<Readonly<Record<string, unknown>> | undefined>
}

/** A request at a route of your own. */
export interface Arrival {
  readonly rulebook: Rulebook
  readonly caller: Caller
  readonly store: UntypedStore
  /** A part of the path, by its name in the route. */
  parameter(name: string): string | undefined
}

/** Requirements for the routes of an application with this guard. */
export interface Requirements<M, C, A> {
  /** Somebody who has signed in. */
  signedIn(): Requirement<M, C, A>
  /**
   * Somebody who has this role now, also where the caller's own record says so.
   * @throws {UnknownNameError} with each request, where the rules have no such role
   */
  role(role: RoleOf<C>): Requirement<M, C, A>
  /**
   * Somebody who may do this to the record that the path names; the route finds it with what the caller may do to it, and
   * asks the database once.
   *
   * @param action what is going to be done; `get` where it is only shown
   * @param table its table
   * @param parameter the part of the path that names it, as `:id` does; of a key of several fields, all of them with commas between
   * @example may('update', 'entries', 'id')
   */
  may<T extends TableName<M>>(
    action: Exclude<StandardAction, 'create' | 'read' | 'list'> | OwnAction<A, T>,
    table: T,
    parameter: string,
  ): Requirement<M, C, A>
}

/**
 * Requirements for the routes of an application.
 *
 * @param handler the handler whose guard and identity they ask
 * @example const { signedIn, role, may } = requirements(handler)
 */
export function requirements<M, C, A, N>(_handler: Pick<Handler<M, C, A, N>, 'guard'>): Requirements<M, C, A> {
  return {
    signedIn: () => ({ check: (visit) => Promise.resolve(assertSignedIn(visit)) }),
    role: (role) => ({
      check: async (visit) => {
        assertSignedIn(visit)
        if (!(await visit.store.hasRole(role))) throw new ForbiddenError(told(403, 'You may not do this.'))
        return undefined
      },
    }),
    may: (action, table, parameter) => ({ check: (visit) => found(visit, action, table, visit.parameter(parameter)) }),
  }
}

function assertSignedIn({ caller }: Arrival): undefined {
  if (!caller.signedIn) throw new SignInError(told(401, 'Sign in first.'))
  return undefined
}

async function found({ rulebook, caller, store }: Arrival, action: Action, table: string, written = '') {
  const key = keyFromRead(rulebook.model, table, written)
  if (!key) throw refusalOfAbsent({ rulebook, table, action: 'get', caller })
  const record = (await store.get(table, key, { access: true })) as Found
  if (action === 'get' || record.$access.may[action] === true) return record
  // Only now is it asked why.
  const { verdict } = await store.verdict(table, action, key)
  if (!verdict.allowed) throw refusal(verdict)
  return record
}

interface Found extends Readonly<Record<string, unknown>> {
  readonly $access: { readonly may: Readonly<Record<string, boolean>> }
}

const told = <S extends 401 | 403>(status: S, message: string) => ({ status, message, fields: {} })

/** What a route of your own finds, once its requirements were met. */
export interface Admitted<M, C, A> extends Opened<M, C, A> {
  /** The record that the last requirement about one was about, with what its caller may do to it. */
  readonly record?: Readonly<Record<string, unknown>>
}

/** The requests of a server that were let in. */
export interface Admissions<I, M, C, A> {
  /** Checks requirements in their order; the first that does not hold refuses. */
  admit(
    incoming: I,
    opened: Opened<M, C, A>,
    all: readonly Requirement<M, C, A>[],
    parameter: Arrival['parameter'],
  ): Promise<void>
  /** What a request that was let in found. */
  of(incoming: I): Admitted<M, C, A>
}

/** Keeps what the requests of a server found, for their routes. */
export function admissions<I extends object, M, C, A, N>({
  guard,
}: Pick<Handler<M, C, A, N>, 'guard'>): Admissions<I, M, C, A> {
  const rulebook: Rulebook = guard.rules
  const admitted = new WeakMap<I, Admitted<M, C, A>>()
  return {
    admit: async (incoming, opened, all, parameter) => {
      const caller = checkCaller(rulebook.caller, opened.caller)
      const arrival: Arrival = { rulebook, caller, store: opened.store as unknown as UntypedStore, parameter }
      let record: Admitted<M, C, A>['record']
      for (const each of all) record = (await each.check(arrival)) ?? record
      admitted.set(incoming, record ? { ...opened, record } : opened)
    },
    of: (incoming) => {
      const found = admitted.get(incoming)
      if (!found) throw new Error('This route is not behind open().')
      return found
    },
  }
}
