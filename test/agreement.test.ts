import { expect } from 'chai'
import fc from 'fast-check'
import { type Condition, decide, InputError, RefusedError, type Rulebook } from 'pachter'
import { normalise, print } from 'pachter/condition'
import { evaluator, lookupIn } from 'pachter/decide'
import { checkCaller } from 'pachter/rules'
import { NO_TRAITS, planCount, postgresql } from 'pachter/sql'
import { callers } from '../examples/allotment/callers.js'
import { rules } from '../examples/allotment/rules.js'
import { NOW, openKorenveld } from './support/korenveld.js'

const field = (name: string, level = 0) => ({ kind: 'field', level, name }) as const
const me = { kind: 'caller', name: 'id' } as const
const number = (value: number) => ({ kind: 'value', shape: { type: 'integer' }, value }) as const
const compare = (how: string, left: object, right: object) => ({ kind: 'compare', how, left, right })

/** Any condition on an entry, with missing values, steps up and down, and negations in all places. */
const conditions = fc.letrec<{ condition: object }>((tie) => ({
  condition: fc.oneof(
    { depthSize: 'small' },
    fc.constant(compare('is', field('authorId'), me)),
    fc
      .constantFrom('private', 'members', 'public')
      .map((value) =>
        compare('is', field('audience'), { kind: 'value', shape: { type: 'choice', choices: [value] }, value }),
      ),
    fc
      .tuple(fc.constantFrom('is', 'below', 'atMost', 'above', 'atLeast'), fc.integer({ min: 1, max: 30 }))
      .map(([how, value]) => compare(how, field('plotId'), number(value))),
    fc
      .constantFrom('above', 'below')
      .map((how) => compare(how, field('updatedAt'), { kind: 'now', plusSeconds: -1.5e7 })),
    fc.constantFrom('updatedAt', 'title').map((name) => ({ kind: 'isSet', operand: field(name) })),
    fc
      .constantFrom('S', 'The', '')
      .map((value) => compare('startsWith', field('title'), { kind: 'value', shape: { type: 'text' }, value })),
    fc
      .array(fc.integer({ min: 1, max: 25 }), { maxLength: 4 })
      .map((value) =>
        compare('in', field('authorId'), { kind: 'value', shape: { type: 'list', item: 'integer' }, value }),
      ),
    fc.tuple(fc.constantFrom('holderId', 'id'), fc.boolean()).map(([name, own]) => ({
      kind: 'some',
      relation: 'plot',
      table: 'plots',
      from: field('plotId'),
      to: { level: 1, field: 'id' },
      one: true,
      where: compare('is', field(name, 1), own ? me : field('authorId')),
    })),
    fc
      .constantFrom(compare('is', field('memberId', 1), me), compare('is', field('memberId', 1), field('authorId')), {
        kind: 'always',
      })
      .map((where) => ({
        kind: 'some',
        relation: 'entryShares',
        table: 'entryShares',
        from: field('id'),
        to: { level: 1, field: 'entryId' },
        one: false,
        where,
      })),
    tie('condition').map((of) => ({ kind: 'not', of })),
    fc
      .tuple(fc.constantFrom('all', 'any'), fc.array(tie('condition'), { maxLength: 3 }))
      .map(([kind, of]) => ({ kind, of })),
  ),
})).condition as fc.Arbitrary<Condition>

const someone = fc.constantFrom(...Object.values(callers))
const rulebook: Rulebook = rules

describe('memory and PostgreSQL', () => {
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>
  before(async () => {
    korenveld = await openKorenveld()
  })
  after(() => korenveld.close())

  it('agree on which entries meet a condition', async () => {
    const { data, store } = korenveld
    const lookup = lookupIn(data)
    const signedIn = someone.filter((caller) => 'id' in caller)
    await fc.assert(
      fc.asyncProperty(conditions, signedIn, async (condition, given) => {
        const caller = checkCaller(rulebook.caller, given)
        const world = { caller, now: NOW, lookup }
        const meets = evaluator(condition, world)
        const inMemory = (data['entries'] ?? []).filter((entry) => meets(entry)).length
        for (const form of [condition, normalise(condition)]) {
          for (const how of ['walk', 'scan', 'gather'] as const) {
            const { text, bind } = planCount(
              { rulebook, dialect: postgresql, traits: NO_TRAITS, form: how },
              'entries',
              form,
            )
            const { rows } = await store.query(text, bind({ caller, clock: () => NOW }))
            expect(Number(rows[0]?.['count']), `${print(form)}\n${text}`).to.equal(inMemory)
          }
        }
      }),
      { numRuns: 400 },
    )
  })

  it('agree on every verdict, and the guard acts on it', async () => {
    const { data, guard, undone } = korenveld
    const texts = fc.constantFrom('First leeks in', 'Chervil')
    const attempts = fc.oneof(
      fc.record({
        table: fc.constant('entries' as const),
        key: fc.integer({ min: 1, max: 46 }),
        values: fc.record(
          {
            title: texts,
            body: texts,
            audience: fc.constantFrom('private' as const, 'members' as const, 'public' as const),
            plotId: fc.constantFrom(1, 14),
            authorId: fc.constantFrom(1, 2),
          },
          { requiredKeys: [] },
        ),
      }),
      fc.record({
        table: fc.constant('plots' as const),
        key: fc.integer({ min: 1, max: 31 }),
        values: fc.record(
          {
            crop: fc.constantFrom(null, 'kale'),
            holderId: fc.constantFrom(null, 1, 2),
            siteId: fc.constantFrom(1, 2),
            notes: fc.constant(null),
          },
          { requiredKeys: [] },
        ),
      }),
      fc.record({
        table: fc.constant('jobs' as const),
        key: fc.integer({ min: 1, max: 23 }),
        values: fc.record(
          {
            title: texts,
            status: fc.constantFrom('open' as const, 'done' as const),
            assigneeId: fc.constantFrom(null, 2, 3),
            siteId: fc.constantFrom(1, 2),
          },
          { requiredKeys: [] },
        ),
      }),
    )
    await fc.assert(
      fc.asyncProperty(
        attempts,
        someone,
        fc.constantFrom('update' as const, 'delete' as const),
        async (attempt, caller, action) => {
          const { table, key, values } = attempt
          const record = (data[table] ?? []).find(({ id }) => id === key)
          const request = { caller, action, table, data, now: NOW, ...(action === 'update' && { values }) }
          const verdict = decide(rules, { ...request, ...(record && { record }) })
          const status = await undone(async () => {
            const scoped = guard.as(caller)
            try {
              if (action === 'update') await scoped.update(table as 'entries', key, values as object)
              else await scoped.delete(table, key)
              return 200
            } catch (error) {
              if (error instanceof RefusedError || error instanceof InputError) return error.status
              // Other records refer to it, which only the database minds, and only once the rules let it through.
              if (action === 'delete' && String(error).includes('foreign key')) return 200
              throw error
            }
          })
          expect(status, `${verdict.message} ${JSON.stringify(record)}`).to.equal(verdict.status)
        },
      ),
      { numRuns: 500 },
    )
  })
})
