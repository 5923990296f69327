import { expect } from 'chai'
import fc from 'fast-check'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import { createClient } from 'pachter/client'
import { createHandler } from 'pachter/http'
import { createIdentity } from 'pachter/identity'
import { callers } from '../examples/allotment/callers.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { drawnQuery } from './support/queries.js'
import { byHeader, type CallerName } from './support/web.js'

type Rows = readonly object[]

const { PACHTER_LISTS = '120', PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

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
      asked: fc
        .constantFrom(...tables)
        .chain((table) => drawnQuery(model, table, 2).map((query) => ({ table, query }))),
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
    expect(compared).to.be.above(300)
    await fixture.close()
  })
})
