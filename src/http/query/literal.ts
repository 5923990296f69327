import { accepts, describeType, readTyped, type Shape, type Value } from '../../model/index.js'
import type { Scanner } from './scanner.js'

const TEXT = /'(?:[^']|'')*'/
const BARE = /[-+]?[\w.:+-]+/

/** The types whose values are written as texts; others may be. */
const QUOTED = ['text', 'choice']

/**
 * Reads a value: a text in single quotes, with `''` for one; a number, `true`, `false`, a date, a moment or a uuid bare.
 *
 * @param shape what it is compared with
 */
export function readLiteral(scanner: Scanner, shape: Shape): Value {
  const quoted = scanner.take(TEXT)
  const written = quoted?.slice(1, -1).replaceAll("''", "'") ?? scanner.expect(BARE, 'a value')
  if (quoted === undefined && QUOTED.includes(shape.type)) scanner.fail('a text in single quotes is expected')
  const value = readTyped(shape, written)
  if (!accepts(shape, value)) scanner.fail(`a value is expected that is ${describeType(shape)}`)
  return value
}
