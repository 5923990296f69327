import type { Operand } from 'pachter/condition'
import { type Shape, toPlain, type Value } from 'pachter/model'

/** Values that engines are known to see differently. */
export const POOLS: Readonly<Record<string, readonly Value[]>> = {
  text: ['a', 'A', 'a ', '', 'ab', 'abc', '0', 'é', 'e\u0301', "o'", '\\', '%', '_', '🌱', '"', 'null'],
  choice: ['draft', 'Draft', 'done'],
  integer: [0, 1, 2, 3, -1, Number.MAX_SAFE_INTEGER],
  bigInteger: [0n, 1n, 2n ** 53n, 2n ** 53n + 1n, -(2n ** 63n), 2n ** 63n - 1n],
  decimal: ['0.10', '0.20', '-1.00', '10.00', '9999999999999999.99'],
  float: [0, -0.5, 0.1, 0.1 + 0.2, 1e300, 5e-324, -1.5e-9, 2 ** 53 + 2],
  date: ['2026-02-28', '2024-02-29', '1999-12-31', '2026-11-23'],
  time: ['00:00:00', '23:59:59', '09:30:00'],
  uuid: [
    '00000000-0000-4000-8000-000000000001',
    'ffffffff-ffff-4fff-bfff-ffffffffffff',
    '0f0f0f0f-1111-1eef-8abc-0123456789ab',
    'a0000000-0000-7000-8000-00000000000a',
  ],
  bytes: [[], [0], [0, 255], [39, 92, 0]].map((each) => Uint8Array.from(each)),
  // Objects alone: the oracle tells a document from other values by that.
  json: [{ a: 1, b: [null, 'é'] }, {}, { a: { b: { c: "'" } } }],
  boolean: [true, false],
  timestamp: [
    '2026-03-01T00:00:00.000Z',
    '2026-03-01T00:00:00.001Z',
    '2026-11-23T09:00:00.000Z',
    '1969-12-31T23:59:59.999Z',
  ].map((iso) => new Date(iso)),
}

export const LISTS: readonly Value[] = [[], ['a'], ['A', 'b'], ['a', 'a '], ['é']]
const NUMBERS: readonly Value[] = [[], [1], [2, 3]]
const UUIDS: readonly Value[] = [[], ...['1', 'f'].map((each) => [`0f0f0f0f-1111-1eef-8abc-01234567890${each}`])]
const BIGS: readonly Value[] = [[], [2n ** 53n + 1n], [-(2n ** 63n), 2n ** 53n]]
const ITEMS = { bigInteger: BIGS, text: LISTS, integer: NUMBERS, uuid: UUIDS }

/** Keys of records, where they are numbers and where they are texts. */
export const IDS = [1, 2, 3]
const TEXT_IDS = ['a', 'A', 'a ']

/** The keys of records of this type. */
export const idsFor = ({ type }: Shape): readonly Value[] =>
  type === 'integer' ? IDS : type === 'text' ? TEXT_IDS : (POOLS['uuid'] as readonly Value[]).slice(0, 3)

/** A key that no record has. */
export const strangerFor = ({ type }: Shape): Value =>
  type === 'integer' ? 99 : type === 'text' ? 'new' : '99999999-9999-4999-8999-999999999999'

export const valuesFor = ({ type, item }: Shape): readonly Value[] =>
  type === 'list' ? ITEMS[item ?? 'text'] : (POOLS[type] as readonly Value[])

/** A value that stands in a rule, with as much of the field's shape as a rulebook says of one. */
export const literal = (field: Shape, value: Value): Operand => {
  const { type, choices, item, scale } = field
  const shape: Shape = { type, ...(choices && { choices }), ...(item && { item }), ...(scale && { scale }) }
  return { kind: 'value', shape, value: toPlain(shape, value) }
}
