/** What a developer may know of an error, and whoever made the request may not. */
export interface Aside {
  /** The names there are, where one was not found. */
  readonly known?: readonly string[]
  /** What the developer may want to know or to do about it: a sentence. */
  readonly hint?: string
  /** What the database, or its driver, said. */
  readonly cause?: unknown
}

const ASIDES = Symbol.for('pachter asides')

/**
 * Kept beside the error and not in it: whatever writes an error out cannot come upon it. One place for all, since a
 * process may have loaded this library more than once.
 */
const asides = ((globalThis as { [ASIDES]?: WeakMap<object, object> })[ASIDES] ??= new WeakMap<object, object>())

/** Notes what only a developer may know of an error. */
export function noteAside<E extends object, A extends object = Aside>(error: E, aside: A): E {
  asides.set(error, { ...asides.get(error), ...aside })
  return error
}

/** What was noted beside an error. */
export function asideOf<A extends object = Aside>(error: unknown): Partial<A> {
  return typeof error === 'object' && error !== null ? ((asides.get(error) ?? {}) as Partial<A>) : {}
}

/**
 * An error in words for the developer: the sentence that callers are told, and what only a developer may know.
 *
 * @param error anything that was thrown
 * @example console.error(inFull(error)) // There is no field "titel" in entries; there is id, title, body.
 */
export function inFull(error: unknown): string {
  if (!(error instanceof Error)) return String(error)
  const { known, hint, cause } = asideOf(error)
  const names = known && (known.length > 0 ? `known: ${known.join(', ')}.` : 'there are none.')
  const sentence = names ? `${error.message.replace(/\.$/, '')}; ${names}` : error.message
  return [sentence, hint, saidBy(cause)].filter(Boolean).join(' ')
}

/** What an error says; of several that are one, such as those of each address that was tried, what each says. */
function saidBy(cause: unknown): string {
  if (!(cause instanceof Error)) return ''
  const { message, errors = [] } = cause as Partial<AggregateError> & Error
  return message || errors.map(saidBy).join(', ')
}
