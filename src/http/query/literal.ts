import { accepts, describeType, type FieldType, readTyped, type Shape, type Value } from '../../model/index.js'
import { MOMENT } from '../body.js'
import type { Scanner } from './scanner.js'

const TEXT = /'(?:[^']|'')*'/
const BARE = /[-+]?[\w.:+-]+/

/** The types whose values are written as texts; others may be. */
const QUOTED = ['text', 'choice']

/** How values are written of which JavaScript reads more than one would take for them, such as moments in the server's zone. */
const WRITTEN: Partial<Readonly<Record<FieldType, RegExp>>> = {
  integer: /^[-+]?\d+$/,
  float: /^[-+]?\d+(?:\.\d+)?(?:e[-+]?\d+)?$/i,
  timestamp: MOMENT,
}

/**
 * Reads a value: a text in single quotes, with `''` for one; a number, `true`, `false`, a date, a moment or a uuid bare.
 *
 * @param shape what it is compared with
 */
export function readLiteral(scanner: Scanner, shape: Shape): Value {
  const quoted = scanner.take(TEXT)
  const written = quoted?.slice(1, -1).replaceAll("''", "'") ?? scanner.expect(BARE, 'a value')
  if (quoted === undefined && QUOTED.includes(shape.type)) scanner.fail('a text in single quotes is expected')
  const value = valueOf(shape, written)
  if (WRITTEN[shape.type]?.test(written) === false || !accepts(shape, value))
    scanner.fail(`a value is expected that is ${describeType(shape)}`)
  return value
}

function valueOf(shape: Shape, written: string): unknown {
  if (shape.type === 'text') return written
  if (shape.type !== 'decimal') return readTyped(shape, written)
  // As many digits as the field has: 12, 12.5 and 12.50 are one number.
  const [whole = '', part = ''] = written.split('.')
  return `${whole}.${part.padEnd(shape.scale ?? 1, '0')}`
}
