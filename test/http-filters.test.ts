import Database from 'better-sqlite3'
import { expect } from 'chai'
import fc from 'fast-check'
import { anonymous, type Condition, createGuard } from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createHandler } from 'pachter/http'
import { createIdentity, notMine } from 'pachter/identity'
import { type FieldData, isOrdered, tableOf } from 'pachter/model'
import { createTables } from 'pachter/sql'
import { valuesFor } from './support/values.js'
import { stopsAtFirst } from './support/engines.js'
import { literalOf } from './support/queries.js'
import { sample } from './support/samples/drawn.js'
import { model, rules } from './support/samples/rules.js'

/** A term that can be asked anything; which of it its type has, {@link asksOf} says. */
type Ask = Readonly<Record<string, (other?: unknown) => Condition>>

/** The ways to ask, as a filter writes them and as a condition does. */
const HOWS: Readonly<
  Record<string, readonly [(name: string, values: readonly string[]) => string, string, 'several'?]>
> = {
  eq: [(name, [value]) => `${name} eq ${value}`, 'is'],
  ne: [(name, [value]) => `${name} ne ${value}`, 'isNot'],
  lt: [(name, [value]) => `${name} lt ${value}`, 'below'],
  le: [(name, [value]) => `${name} le ${value}`, 'atMost'],
  gt: [(name, [value]) => `${name} gt ${value}`, 'above'],
  ge: [(name, [value]) => `${name} ge ${value}`, 'atLeast'],
  in: [(name, values) => `${name} in (${values.join(', ')})`, 'oneOf', 'several'],
  startswith: [(name, [value]) => `startswith(${name}, ${value})`, 'startsWith'],
  any: [(name, [value]) => `${name}/any(each: each eq ${value})`, 'includes'],
  missing: [(name) => `${name} eq null`, 'isMissing'],
  set: [(name) => `${name} ne null`, 'isSet'],
}

function asksOf(field: FieldData): readonly string[] {
  const common = ['missing', 'set']
  if (field.type === 'list') return [...common, 'any']
  if (field.type === 'json') return common
  const ordered = isOrdered(field) ? ['lt', 'le', 'gt', 'ge'] : []
  const texts = field.type === 'text' || field.type === 'choice' ? ['startswith'] : []
  return [...common, 'eq', 'ne', 'in', ...ordered, ...texts]
}

describe('a filter over HTTP', () => {
  it('finds what the same condition does, whatever is asked of which type', async () => {
    const store = sqliteStore(new Database(':memory:'))
    for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
    const guard = createGuard({ rules, store })
    const everybody = guard.as(anonymous)
    const identity = await createIdentity({ rules, sources: [{ name: 'nobody', identify: () => notMine }] })
    const handler = createHandler({ guard, identity, refusalMilliseconds: 0 })
    let next = 0n
    for (const values of fc.sample(sample, 60))
      await everybody.create('samples', { id: (next += 1n), ...values } as never)
    const fields = Object.entries(tableOf(model, 'samples').fields)
    const asked = fc.constantFrom(...fields).chain(([name, field]) => {
      const values = valuesFor(field.item ? { type: field.item } : field)
      return fc.record({
        name: fc.constant(name),
        how: fc.constantFrom(...asksOf(field)),
        values: fc.array(fc.constantFrom<unknown>(...values), { minLength: 1, maxLength: 3 }),
      })
    })
    const idsOf = (records: readonly { readonly id: unknown }[] = []) => records.map(({ id }) => String(id))
    const answered = async ($filter: string) => {
      const query = new URLSearchParams({ $filter, $top: '200', $orderby: 'id' })
      const response = await handler.handle(new Request(`http://localhost/api/samples?${query.toString()}`))
      return { status: response.status, ...((await response.json()) as { records?: readonly { id: string }[] }) }
    }
    await fc.assert(
      fc.asyncProperty(asked, async ({ name, how, values }) => {
        const [text, says, several] = HOWS[how] as (typeof HOWS)[string]
        const written = text(name, values.map(literalOf))
        const where = (row: object) => (row as Record<string, Ask>)[name]?.[says]?.(several ? values : values[0])
        const found = await everybody.list('samples', { where: where as never, orderBy: 'id' })
        const { status, records } = await answered(written)
        expect([status, idsOf(records)], written).to.deep.equal([200, idsOf(found)])
      }),
      { numRuns: 500, endOnFailure: stopsAtFirst },
    )
    for (const wrong of [
      'boolean gt true',
      'texts eq 1',
      'text eq leeks',
      'json eq 1',
      'integer eq 0x10',
      'float gt 0x1',
      'timestamp gt 5',
      'timestamp gt 2026-01-01T00:00:00',
      'timestamp lt 2026-01-01',
      'bytes lt 00',
      'decimal eq 1.234',
      'date eq 2026-02-30',
      "uuid eq 'x'",
    ]) {
      expect((await answered(wrong)).status, wrong).to.equal(400)
    }
  })
})
