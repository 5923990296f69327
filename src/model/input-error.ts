import { PachterError } from './errors.js'

/** Values that cannot be accepted whoever asks: unknown fields, wrong types, missing values. HTTP status 422. */
export class InputError extends PachterError {
  readonly code = 'input-invalid'
  readonly status = 422

  /**
   * @param table the table the values were meant for
   * @param fields what is wrong, by field, every one of them
   */
  constructor(
    readonly table: string,
    readonly fields: Readonly<Record<string, string>>,
  ) {
    const problems = Object.entries(fields).map(([name, problem]) => `${name} ${problem}`)
    super(`These values do not fit ${table}: ${problems.join('; ')}.`)
  }
}
