import { PachterError } from '../../model/index.js'

/** A record was named that is not there. */
export class MissingRecordError extends PachterError {
  readonly code = 'record-missing'
}

/** A key was typed short, and several records have one that begins so. */
export class AmbiguousKeyError extends PachterError {
  readonly code = 'key-ambiguous'
}

/** Something in a file of expectations, and where. */
export interface ExpectationProblem {
  /** The line, counted from 1. */
  readonly line: number
  /** The column, counted from 1. */
  readonly column: number
  readonly reason: string
}

/** A file of expectations cannot be used as it stands; nothing was checked. */
export class ExpectationFileError extends PachterError {
  readonly code = 'expectations-invalid'

  constructor(
    readonly file: string,
    /** Everything that was found wrong, in the order of the file. */
    readonly problems: readonly [ExpectationProblem, ...ExpectationProblem[]],
  ) {
    super(problems.map(({ line, column, reason }) => `${file}:${line}:${column}: ${reason}`).join('\n'))
  }
}

/** Two rulebooks cannot be compared on this database: one of them asks for what it does not have. */
export class ComparisonError extends PachterError {
  readonly code = 'comparison-impossible'
}

/** Nothing says which table has a record for each caller; nothing was counted. */
export class EveryoneUnknownError extends PachterError {
  readonly code = 'everyone-unknown'
}
