import { expect } from 'chai'
import fc from 'fast-check'
import {
  bigInteger,
  bytes,
  createGuard,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  json,
  list,
  references,
  text,
  uuid,
} from 'pachter'
import {
  explain,
  openExpectations,
  openFixture,
  openWorkbench,
  runFile,
  seeTable,
  tryAs,
  wholeKey,
} from 'pachter/check'
import { printKey, tableOf } from 'pachter/model'
import { type AnyStore } from './support/answers.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst, undoable } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'
import { shown } from './support/shown.js'
import { NOW, worlds } from './support/worlds.js'

const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 24)
const seed = process.env['PACHTER_SEED'] ?? (process.env['CI'] ? '20261128' : undefined)

const model = defineModel({
  members: { id: bigInteger().key(), name: text() },
  beds: {
    id: uuid().key(),
    holderId: references('members'),
    size: decimal(2),
    serials: list(bigInteger()),
    plan: json(),
    photo: bytes(),
  },
  visits: { bedId: references('beds').key(), day: text().key() },
})
const rules = defineRules(model, defineCaller({ id: bigInteger() }), {
  members: ({ anyone, table }) => table.grants({ read: [anyone] }),
  visits: ({ anyone, table }) => table.grants({ read: [anyone] }),
  beds: ({ row, caller, table }) =>
    table
      .ties({ holder: row.holderId.is(caller.id), numbered: row.serials.includes(7n), drawn: row.photo.isSet() })
      .grants({ read: ['holder', 'drawn'], update: ['holder', 'numbered'] }),
})

const ALIKE = ['0f0f0f0f-0000-4000-8000-000000000001', '0f0f0f0f-0000-4000-8000-000000000002'] as const
const ALONE = ['0f0f0f0e-ffff-4fff-bfff-ffffffffffff', 'ffffffff-ffff-4fff-bfff-ffffffffffff'] as const
const NIL = '00000000-0000-0000-0000-000000000000'
const bedOf = (id: string) => ({
  id,
  holderId: 2n ** 53n + 1n,
  size: '12.50',
  serials: [7n, 2n ** 60n],
  plan: { rows: [1, { deep: null }] },
  photo: Uint8Array.of(1, 255),
})
const DATA = {
  members: [{ id: 2n ** 53n + 1n, name: 'Ana' }],
  beds: [...ALIKE, ...ALONE, NIL].map(bedOf),
  visits: [...ALIKE, ALONE[0]].map((bedId) => ({ bedId, day: 'monday' })),
}

describe('checking, whatever values there are', () => {
  for (const name of engineNames) {
    it(`shows uuids short where they are alone, and finds those that are typed so, on ${name}`, async () => {
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      await load(engine, model, DATA)
      const bench = openWorkbench({ rules, callers: { ana: { id: 2n ** 53n + 1n } }, store: engine.store })
      const { rows } = await seeTable(bench, 'beds', ['ana'])
      expect(rows.map(({ short }) => short)).to.deep.equal(['00000000', '0f0f0f0e', undefined, undefined, 'ffffffff'])
      for (const { key, short } of rows) expect(await wholeKey(bench, 'beds', short ?? key)).to.equal(key)
      expect(await wholeKey(bench, 'beds', '0F0F0F0E-FF')).to.equal(ALONE[0])
      expect(await wholeKey(bench, 'visits', '0f0f0f0e, mon')).to.equal(`${ALONE[0]}, monday`)
      for (const nothing of ['0f0f0f0f-1', 'abc', 'not a uuid']) {
        expect(await wholeKey(bench, 'beds', nothing)).to.equal(nothing)
      }
      expect((await refusalOf(wholeKey(bench, 'beds', '0f0f'))).message).to.include(ALIKE.join('; '))
      expect((await refusalOf(wholeKey(bench, 'visits', '0f0f0f0f, mon'))).message).to.match(/; 0f0f/)
    })

    it(`holds what is stored to what a file says of it, and explains it, on ${name}`, async () => {
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      await load(engine, model, DATA)
      const bench = openWorkbench({ rules, callers: { ana: { id: 2n ** 53n + 1n } }, store: engine.store })
      const tried = async (stored: string) => {
        const written = '{ size: 3.5, serials: [5, "1152921504606846977"], plan: { b: [1], a: null }, photo: "00ff" }'
        const file = `callers: { ana: { beds: { tries: [{ update: ${NIL}, with: ${written}, status: 200, stored: ${stored} }] } } }`
        const { outcomes } = await runFile(await openExpectations(bench, file, 'values.yaml'))
        return outcomes.flatMap(({ failures }) => failures.map((each) => each.text))
      }
      const right = '{ size: 3.5, serials: [5, "1152921504606846977"], plan: { a: null, b: [1] }, photo: "00ff" }'
      expect(await tried(right)).to.deep.equal([])
      const wrong = '{ size: 3.51, serials: [5, "1152921504606846976"], plan: { a: [1], b: null }, photo: "00fe" }'
      const [size, serials, plan, photo, ...more] = await tried(wrong)
      expect([size, serials, photo, ...more]).to.deep.equal([
        `size should be stored as '3.51', but it is '3.50'`,
        'serials should be stored as (5, 1152921504606846976), but it is (5, 1152921504606846977)',
        'photo should be stored as bytes 00fe, but it is bytes 00ff',
      ])
      expect(plan).to.match(/^plan should be stored as \{"a":\[1\],"b":null\}, but it is \{/)
      const why = await explain(bench, { caller: 'ana', table: 'beds', action: 'update', key: NIL })
      expect(why.grants.flatMap(({ to }) => to.map(({ condition }) => condition))).to.include('row.serials includes 7')
    })
  }

  it('takes documents in files as they are, also those that are texts', async () => {
    const beds = ['5', 'null', '{"a":1}', [1], { a: '1' }].map((plan, at) => ({
      ...bedOf(ALONE[0]),
      id: NIL.slice(0, -1) + at,
      plan,
    }))
    const fixture = await openFixture(model, { ...DATA, beds, visits: [] } as never)
    const bench = openWorkbench({ rules, callers: { ana: { id: 2n ** 53n + 1n } }, store: fixture.store })
    const stored = await bench.everything.list('beds')
    expect(stored.map(({ plan }) => plan)).to.deep.equal(beds.map(({ plan }) => plan))
    const attempt = { caller: 'ana', table: 'beds', action: 'update', key: NIL.slice(0, -1) + 4, values: { plan: '5' } }
    expect((await tryAs(bench, attempt)).changes.map(({ after }) => after)).to.deep.equal(['5'])
    await fixture.close()
  })

  it('tries a write as it comes out where it is done', async function () {
    this.timeout(0)
    const engine = (await openEngines()).find(({ name }) => name === 'better-sqlite3') as Engine
    let done = 0
    await fc.assert(
      fc.asyncProperty(worlds(8), async ({ rulebook, data, attempts }) => {
        await load(engine, rulebook.model, data)
        const callers = Object.fromEntries(attempts.map(({ caller }, at) => [`caller${at}`, caller]))
        const { store, undone } = undoable(engine.store)
        const bench = openWorkbench({ rules: rulebook, callers, store: engine.store, clock: () => NOW })
        const guard = createGuard({ rules: rulebook as never, store, clock: () => NOW })
        const all = async (table: string) =>
          (await openWorkbench({ rules: rulebook, callers, store }).everything.list(table)) as readonly object[]
        for (const [at, { table, action, values }] of attempts.entries()) {
          const { key } = tableOf(rulebook.model, table)
          const record = action === 'create' ? undefined : data[table]?.[at % 4]
          if (action !== 'create' && !record) continue
          const whole = record && Object.fromEntries(key.map((name) => [name, record[name]]))
          const scoped = guard.as(callers[`caller${at}`] as never) as unknown as AnyStore
          const given =
            action === 'create'
              ? [values]
              : action === 'delete'
                ? [whole]
                : action === 'update'
                  ? [whole, values]
                  : ['settle', whole, values]
          const method = action === 'settle' ? 'act' : action
          const before = await all(table)
          const real = await undone(async () => {
            const refusal = await Promise.resolve(scoped[method]?.(table, ...given)).then(
              () => undefined,
              (error: { status: number; message: string }) => error,
            )
            return { status: refusal?.status ?? 200, message: refusal?.message, after: await all(table) }
          })
          const tried = await tryAs(bench, {
            caller: `caller${at}`,
            table,
            action,
            values,
            ...(record && { key: printKey(rulebook.model, table, record) }),
          })
          const place = shown({ rulebook, data, table, action, values, record })
          expect([tried.status, tried.message], place).to.deep.equal([real.status, real.message])
          const isChanged = shown(before) !== shown(real.after)
          expect(tried.changes.length > 0, place).to.equal(isChanged)
          expect(await all(table), place).to.deep.equal(before)
          if (isChanged) done += 1
        }
      }),
      { numRuns: WORLDS, endOnFailure: stopsAtFirst, ...(seed && { seed: Number(seed) }) },
    )
    expect(done).to.be.greaterThan(WORLDS / 4)
  })
})
