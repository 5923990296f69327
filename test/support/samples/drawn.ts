import fc from 'fast-check'
import { type FieldData, tableOf } from 'pachter/model'
import { valuesFor } from '../values.js'
import { model } from './rules.js'

export type Sample = Readonly<Record<string, unknown>>

const FIELDS = Object.entries(tableOf(model, 'samples').fields).filter(([name]) => name !== 'id')
/** Documents are any JSON, texts that read like one among them. */
const DOCUMENTS = [{ a: [1, null, 'é'] }, [], 'leeks', '12', 'null', '{"a":1}', 12, true, '']

const valueOf = (field: FieldData) => {
  const known = field.type === 'json' ? DOCUMENTS : valuesFor(field)
  return fc.constantFrom<unknown>(...(field.optional ? [...known, null] : known))
}

/** Values of a record with a field of every type, but for its key. */
export const sample = fc.record(
  Object.fromEntries(FIELDS.map(([name, field]) => [name, valueOf(field)])),
) as fc.Arbitrary<Sample>
