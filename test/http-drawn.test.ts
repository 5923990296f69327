import { expect } from 'chai'
import fc from 'fast-check'
import {
  bigInteger,
  boolean,
  bytes,
  choice,
  createGuard,
  date,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  float,
  integer,
  json,
  list,
  references,
  text,
  time,
  timestamp,
  uuid,
} from 'pachter'
import { createHandler } from 'pachter/http'
import { createIdentity, thisCaller } from 'pachter/identity'
import { drawnRequest, FIELDS, HIDDEN, UUID } from './support/drawn-requests.js'
import { describedBy } from './support/described.js'
import { load, openEngines, stopsAtFirst } from './support/engines.js'

const model = defineModel({
  people: { id: integer().key() },
  beds: {
    id: uuid().key(),
    ownerId: references('people'),
    name: text().optional(),
    size: decimal(2).optional(),
    serial: bigInteger().optional(),
    ratio: float().optional(),
    open: boolean().optional(),
    sown: timestamp().optional(),
    day: date().optional(),
    hour: time().optional(),
    kind: choice('raised', 'flat').optional(),
    tags: list(text()).optional(),
    plan: json().optional(),
    photo: bytes().optional(),
    secret: text().optional(),
  },
  notes: { bedId: references('beds').key(), no: bigInteger().key(), body: text() },
  // Two of its references lead to one table.
  paths: { fromId: references('beds').key(), toId: references('beds').key() },
})
const caller = defineCaller({ id: integer() })
const rules = defineRules(model, caller, {
  people: ({ anyone, table }) => table.grants({ read: [anyone] }),
  beds: ({ row, caller: me, signedIn, table }) => {
    const open = FIELDS.filter((name) => name !== 'secret')
    return table
      .ties({ owner: row.ownerId.is(me.id) })
      .actions('dig')
      .grants({
        read: ['owner', { to: signedIn, fields: open }],
        create: ['owner'],
        update: ['owner'],
        delete: ['owner'],
        dig: ['owner'],
      })
  },
  paths: ({ anyone, table }) => table.grants({ read: [anyone] }),
  notes: ({ row, caller: me, table }) =>
    table
      .ties({ owner: row.bed.ownerId.is(me.id) })
      .grants({ read: ['owner'], create: ['owner'], update: ['owner'], delete: ['owner'] }),
})

const bed = (no: number, ownerId: number) => ({
  id: `${UUID}${no}`,
  ownerId,
  name: `bed ${no}`,
  size: '12.50',
  serial: 2n ** 60n + BigInt(no),
  ratio: 0.5,
  open: true,
  sown: new Date('2026-03-01T09:00:00Z'),
  day: '2026-03-01',
  hour: '09:00:00',
  kind: 'raised' as const,
  tags: ['a', "b'c"],
  plan: { rows: [1, 2, { deep: null }] },
  photo: Uint8Array.of(1, 255),
  secret: ownerId === 2 ? 'mine' : HIDDEN,
})
const DATA = {
  people: [{ id: 1 }, { id: 2 }],
  beds: [1, 2, 3, 4].map((no) => bed(no, no % 2 === 0 ? 2 : 1)),
  notes: [
    { bedId: `${UUID}1`, no: 7n, body: HIDDEN },
    { bedId: `${UUID}2`, no: 7n, body: 'mine' },
  ],
}

const described = describedBy(rules)

const { PACHTER_SEED = process.env['CI'] ? '20261126' : undefined } = process.env

describe('whatever is sent', () => {
  it('is answered without a failure, as it is described, and with nothing hidden', async () => {
    for (const engine of await openEngines()) {
      await load(engine, model, DATA)
      const failures: unknown[] = []
      const { handle } = createHandler({
        guard: createGuard({ rules, store: engine.store }),
        identity: await createIdentity({
          rules,
          sources: [{ name: 'two', identify: () => thisCaller<typeof caller>({ id: 2 }) }],
        }),
        refusalMilliseconds: 0,
        onError: (error) => failures.push(error),
      })
      const statuses: Record<number, number> = {}
      await fc.assert(
        fc.asyncProperty(
          drawnRequest,
          async ({ line: [method = '', at = ''], query: asked, body: sent, headers: given }) => {
            const url = `http://localhost/api${at}${asked.length > 0 ? `?${asked.join('&')}` : ''}`
            const sends = ['POST', 'PATCH', 'PUT'].includes(method)
            const init = {
              method,
              headers: { ...(sends && { 'content-type': 'application/json' }), ...given },
              ...(sends && { body: sent }),
            }
            const response = await handle(new Request(url, init))
            expect(await described.answer(new Request(url, init), response)).to.deep.equal([])
            const all = JSON.stringify([...response.headers]) + (await response.text())
            statuses[response.status] = (statuses[response.status] ?? 0) + 1
            expect(failures.splice(0).map(String)).to.deep.equal([])
            expect(response.status).to.be.below(500)
            // But what whoever asked has sent.
            if (!`${url}${sent}`.includes(HIDDEN)) expect(all).not.to.include(HIDDEN)
          },
        ),
        {
          numRuns: Number(process.env['PACHTER_REQUESTS'] ?? 800),
          endOnFailure: stopsAtFirst,
          ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }),
        },
      )
      console.log(`      ${engine.name}, by status: ${JSON.stringify(statuses)}`)
      expect(Object.keys(statuses)).to.include.members(['200', '400', '404', '422'])
    }
  })
})
