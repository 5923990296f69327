import { choice, defineModel, integer, references, text } from 'pachter'

/** A seed library: small enough to see the laws through. */
export const model = defineModel({
  people: { id: integer().key(), name: text() },
  packets: {
    id: integer().key(),
    ownerId: references('people').optional(),
    state: choice('open', 'sealed'),
    label: text(),
    secret: text().optional(),
  },
})

export const data = { people: [], packets: [] }
export const packet = { id: 1, ownerId: 7, state: 'open', label: 'Chervil', secret: 'under the pot' }
