import { expect } from 'chai'
import fc from 'fast-check'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import { createClient } from 'pachter/client'
import { createHandler } from 'pachter/http'
import { createIdentity } from 'pachter/identity'
import { childrenOf, parentsOf, tableOf } from 'pachter/model'
import { callers } from '../examples/allotment/callers.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { byHeader, type CallerName } from './support/web.js'

interface Query {
  readonly fields?: readonly string[]
  readonly orderBy?: readonly string[]
  readonly limit?: number
  readonly access?: boolean
  readonly by?: string
  readonly with?: Readonly<Record<string, Query>>
}

/** What can be asked of a list, and along its relations. */
function drawnQuery(table: string, depth: number): fc.Arbitrary<Query> {
  const { fields } = tableOf(model, table)
  const names = Object.keys(fields)
  const sortable = names.filter((name) => fields[name]?.type !== 'list')
  const children = childrenOf(model, table)
  const related = [
    ...parentsOf(model, table).map((each) => ({ ...each, by: undefined })),
    ...children.map((each) => ({
      ...each,
      by: children.some((other) => other !== each && other.name === each.name) ? each.to : undefined,
    })),
  ]
  const step = ({ name, table: to, by, one }: (typeof related)[number]) =>
    drawnQuery(to, depth - 1).map(
      ({ orderBy, limit, ...query }) =>
        [name, { ...query, ...(by && { by }), ...(!one && { orderBy, limit }) }] as const,
    )
  const order = fc
    .tuple(fc.constantFrom(...sortable), fc.constantFrom('', ' descending'))
    .map((parts) => parts.join(''))
  return fc.record(
    {
      fields: fc.subarray(names, { minLength: 1 }),
      orderBy: fc.array(order, { minLength: 1, maxLength: 2 }),
      limit: fc.integer({ min: 1, max: 7 }),
      access: fc.boolean(),
      ...(depth > 0 &&
        related.length > 0 && {
          with: fc
            .array(fc.constantFrom(...related).chain(step), { minLength: 1, maxLength: 2 })
            .map((all) => Object.fromEntries(all)),
        }),
    },
    { requiredKeys: ['limit'] },
  ) as fc.Arbitrary<Query>
}

type Rows = readonly object[]

const { PACHTER_LISTS = '200', PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

/** Anything that lists: the guard's store, or a client. */
type Lists = (table: string, query: object) => Promise<unknown>

describe('a client', () => {
  it('lists what the guard does, page by page, whatever is asked', async () => {
    const fixture = await openFixture(model, new URL('../examples/allotment/data/', import.meta.url), 'sqlite')
    const guard = createGuard({ rules, store: fixture.store })
    const handler = createHandler({
      guard,
      identity: await createIdentity({ rules, sources: [byHeader], onEvent: () => undefined }),
      refusalMilliseconds: 0,
    })
    const names = Object.keys(callers) as CallerName[]
    const tables = Object.keys(model.tables)
    const asked = fc.record({
      who: fc.constantFrom(...names),
      asked: fc.constantFrom(...tables).chain((table) => drawnQuery(table, 2).map((query) => ({ table, query }))),
    })
    let compared = 0
    await fc.assert(
      fc.asyncProperty(asked, async ({ who, asked: { table, query } }) => {
        const { limit, ...whole } = query
        const store = guard.as(callers[who]) as unknown as { list: Lists }
        const fetched = (url: string, init?: RequestInit) =>
          handler.handle(new Request(`http://localhost${url}`, { ...init, headers: { 'x-caller': who } }))
        const client = createClient({ model, rules, signIn: null, fetch: fetched as never })
        const list = client.list as unknown as Lists
        const expected = await store.list(table, whole).then(
          (rows) => rows as Rows,
          (error: { status: number }) => error.status,
        )
        const found: object[] = []
        let after: string | undefined
        do {
          const page = await list(table, { ...query, ...(after && { after }) }).then(
            (all) => all as { records: Rows; next?: string },
            (error: { status: number }) => error.status,
          )
          if (typeof page === 'number') return void expect(page).to.equal(expected)
          expect(page.records.length).to.be.at.most(limit as number)
          found.push(...page.records)
          after = page.next
        } while (after !== undefined)
        expect(found).to.deep.equal(expected)
        compared += found.length
      }),
      { numRuns: Number(PACHTER_LISTS), ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
    )
    expect(compared).to.be.above(500)
    await fixture.close()
  })
})
