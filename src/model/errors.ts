import { noteAside } from './aside.js'
import { show } from './show.js'

/** The root of every error this library throws: a stable `code` for programs, a sentence for people. */
export abstract class PachterError extends Error {
  /** Stable over releases; match on this, not on the sentence. */
  abstract readonly code: string

  override get name(): string {
    return this.constructor.name
  }
}

/** The model itself is wrong: thrown by `defineModel`, never later. */
export class ModelError extends PachterError {
  readonly code = 'model-invalid'
}

/**
 * A table, field, action, tie, role, caller or caller attribute that is not there. HTTP status 400. The message says
 * what was asked for; {@link inFull} adds for the developer what there is.
 */
export class UnknownNameError extends PachterError {
  readonly code = 'name-unknown'
  readonly status = 400

  /**
   * @param kind what was looked for, such as `table`
   * @param given the name that was asked for
   * @param known the names there are, for the developer
   * @param where the place it was looked for in, such as `entries`
   */
  constructor(
    readonly kind: string,
    given: unknown,
    known: readonly string[],
    readonly where?: string,
  ) {
    super(`There is no ${kind} ${show(given)}${where ? ` in ${where}` : ''}.`)
    noteAside(this, { known })
  }
}

/** Refuses what has a name that is not known there: left out in silence, it would not do what it was written for. */
export function assertKnown(kind: string, given: object, known: readonly string[], where?: string): void {
  for (const name of Object.keys(given)) if (!known.includes(name)) throw new UnknownNameError(kind, name, known, where)
}

/** More was asked for than is allowed. HTTP status 422. Nothing was run. */
export class LimitError extends PachterError {
  readonly code = 'limit-exceeded'
  readonly status = 422

  /**
   * @param what what there is too much of, such as `relations in with`
   * @param most how much is allowed
   */
  constructor(what: string, most: number) {
    super(`That is too much: at most ${most} ${what}.`)
  }
}

/** Refuses what is more than a limit allows. */
export function assertWithin(what: string, size: number, most: number): void {
  if (size > most) throw new LimitError(what, most)
}
