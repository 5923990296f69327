import type { Store } from '../guard/index.js'
import { type Handler, onConsole } from '../http/index.js'
import { LiveConfigError } from './errors.js'
import type { Followed } from './changes.js'

/** How lists are followed. */
export interface LiveOptions<M, C, A, N> {
  /** What answers when a list is asked; with it, who asks and what is served. */
  readonly handler: Handler<M, C, A, N>
  /** The store of the handler's guard, which says what was written: from {@link followWrites} or {@link followTriggers}. */
  readonly store: Followed<Store>
  /** Where streams are asked for; left out, `/live`. */
  readonly path?: string
  /**
   * How often, in seconds, it is looked whether a session still is, and what changes with time: 1 to 60, 5 where it is left out.
   * Before anything is sent, it is looked in any case.
   */
  readonly recheckSeconds?: number
  /**
   * After how many seconds a client has to come again: 10 to 3,600, 300 where it is left out. What it has already, it is not
   * sent again.
   */
  readonly streamSeconds?: number
  /** How often something is sent so that nobody takes the connection for dead: 1 to 60 seconds, 15 where it is left out. */
  readonly heartbeatSeconds?: number
  /** Hears of what went wrong on the server, for `inFull`; left out, the console does. */
  readonly onError?: (error: unknown) => void
}

/** The options with what was left out filled in. */
export interface Checked {
  readonly path: string
  readonly recheckSeconds: number
  readonly streamSeconds: number
  readonly heartbeatSeconds: number
  readonly onError: (error: unknown) => void
}

/**
 * Checks the options, and fills in what was left out.
 *
 * @throws {LiveConfigError}
 */
export function checked<M, C, A, N>(options: LiveOptions<M, C, A, N>): Checked {
  const { handler, store, path = '/live' } = options
  if (typeof store.changes?.listen !== 'function') {
    throw new LiveConfigError(
      'store does not tell of changes; make it one with followWrites(store), and give it to the guard as well.',
    )
  }
  if (!/^(?:[/][\w.~-]+)+$/.test(path) || `${path}/`.startsWith(`${handler.base}/`)) {
    throw new LiveConfigError(`path is '${path}'; it must be a path such as '/live', and not below ${handler.base}.`)
  }
  return {
    path,
    recheckSeconds: seconds('recheckSeconds', options.recheckSeconds ?? 5, 1, 60),
    streamSeconds: seconds('streamSeconds', options.streamSeconds ?? 300, 10, 3600),
    heartbeatSeconds: seconds('heartbeatSeconds', options.heartbeatSeconds ?? 15, 1, 60),
    onError: options.onError ?? onConsole('live'),
  }
}

function seconds(name: string, given: number, least: number, most: number): number {
  if (given >= least && given <= most) return given
  throw new LiveConfigError(`${name} is ${given}; it must be from ${least} to ${most.toLocaleString('en')}.`)
}
