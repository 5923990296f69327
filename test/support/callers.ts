import fc from 'fast-check'
import { anonymous } from 'pachter'
import { fieldOf, type FieldData, type ModelData, type Shape } from 'pachter/model'
import type { CallerShape } from 'pachter/rules'
import { idsFor, valuesFor } from './values.js'

/** What can be known of a caller besides the id: a value of every type that is compared with others. */
const ATTRIBUTES: Readonly<Record<string, FieldData>> = {
  ...Object.fromEntries(
    (['text', 'integer', 'bigInteger', 'float', 'boolean', 'date', 'time', 'timestamp', 'uuid', 'bytes'] as const).map(
      (type) => [type, { type, optional: true }],
    ),
  ),
  decimal: { type: 'decimal', scale: 2, optional: true },
  texts: { type: 'list', item: 'text', optional: true },
  numbers: { type: 'list', item: 'integer', optional: true },
  bigs: { type: 'list', item: 'bigInteger', optional: true },
  uuids: { type: 'list', item: 'uuid', optional: true },
}

/** What callers of a drawn world look like: each has the key of one of its people. */
export const callerOf = (model: ModelData): CallerShape => ({
  attributes: { id: { type: fieldOf(model, 'people', 'id').type }, ...ATTRIBUTES },
  roles: ['a', 'A', 'chief'],
  implies: { chief: ['a'] },
  standings: {},
  channels: ['web'],
  record: { table: 'people', roles: 'duties' },
})

/** Somebody who asks, or nobody. */
export const someoneIn = (model: ModelData): fc.Arbitrary<object> => {
  const attributes = Object.entries(ATTRIBUTES).map(([name, shape]) => [name, fc.constantFrom(...valuesFor(shape))])
  const known = fc.record(Object.fromEntries(attributes) as Record<string, fc.Arbitrary<unknown>>, { requiredKeys: [] })
  const whoever = fc.record(
    {
      id: fc.constantFrom(...idsFor(fieldOf(model, 'people', 'id'))),
      roles: fc.subarray(['a', 'A', 'chief']),
      channel: fc.constant('web'),
    },
    { requiredKeys: ['id'] },
  )
  return fc.oneof(
    fc.constant(anonymous),
    fc.tuple(known, whoever).map((parts) => Object.assign({}, ...parts) as object),
  )
}

/** The shape of something known of callers. */
export const knownAs = (model: ModelData, name: string): Shape =>
  name === 'roles' ? { type: 'list', item: 'text' } : (callerOf(model).attributes[name] as Shape)

/** All that can be known of callers. */
export const KNOWN = ['id', 'roles', ...Object.keys(ATTRIBUTES)]
