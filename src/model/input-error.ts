import { PachterError } from './errors.js'
import { show } from './show.js'

/** How many problems the sentence of an error names; `fields` has them all. */
const NAMED = 20

/** Values that cannot be accepted whoever asks: unknown fields, wrong types, missing values. HTTP status 422. */
export class InputError extends PachterError {
  readonly code = 'input-invalid'
  readonly status = 422
  /** What is wrong, by field, every one of them. */
  readonly fields: Readonly<Record<string, string>>

  /**
   * @param table the table the values were meant for
   * @param problems what is wrong, by field; a field may be called anything, since it comes from outside
   */
  constructor(
    readonly table: string,
    problems: Readonly<Record<string, string>> | ReadonlyMap<string, string>,
  ) {
    const all = problems instanceof Map ? [...problems] : Object.entries(problems)
    const named = all.slice(0, NAMED).map(([name, problem]) => `${isPlain(name) ? name : show(name)} ${problem}`)
    const more = all.length > NAMED ? `; and ${all.length - NAMED} more` : ''
    super(`These values do not fit ${table}: ${named.join('; ')}${more}.`)
    // Not by assignment, which `__proto__` would take another way.
    this.fields = Object.freeze(Object.fromEntries(all))
  }
}

const isPlain = (name: string): boolean => /^[\w ]{1,64}$/.test(name)
