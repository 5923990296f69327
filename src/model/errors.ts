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

/** A table, field, action, tie, role, caller or caller attribute that is not there. */
export class UnknownNameError extends PachterError {
  readonly code = 'name-unknown'

  /**
   * @param kind what was looked for, such as `table`
   * @param given the name that was asked for
   * @param known the names there are
   * @param where the place it was looked for in, such as `entries`
   */
  constructor(
    readonly kind: string,
    readonly given: string,
    readonly known: readonly string[],
    readonly where?: string,
  ) {
    super(
      `There is no ${kind} ${JSON.stringify(given)}${where ? ` in ${where}` : ''}; ` +
        (known.length > 0 ? `there is ${known.join(', ')}.` : 'there is none.'),
    )
  }
}
