import { expect } from 'chai'
import fc from 'fast-check'
import { type MemoryRecord, RefusedError } from 'pachter'
import { evaluator, lookupIn } from 'pachter/decide'
import { printKey, type Shape, tableOf } from 'pachter/model'
import { type Caller, expand, fieldSight, permission, specialise } from 'pachter/rules'
import {
  type Aspect,
  compareRulebooks,
  countForMany,
  everyoneIn,
  explain,
  mutantsOf,
  openWorkbench,
  reachOfAll,
  runExpectations,
} from 'pachter/check'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { NOW, TABLES, type World, worlds } from './support/worlds.js'

const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 24)
const seed = process.env['PACHTER_SEED'] ?? (process.env['CI'] ? '20261123' : undefined)
const options = { numRuns: WORLDS, ...(seed && { seed: Number(seed) }) }

/** The people of a world as callers: their attributes are the fields of their record of that type. */
function peopleOf({ rulebook, data }: World) {
  const { fields } = tableOf(rulebook.model, 'people')
  const fieldFor = ({ type, item }: Shape) =>
    Object.keys(fields).find((name) => fields[name]?.type === type && fields[name].item === item && name !== 'duties')
  const attributes = Object.fromEntries(
    Object.entries(rulebook.caller.attributes).flatMap(([name, shape]) => {
      const field = name === 'id' ? undefined : fieldFor(shape)
      return field ? [[name, field]] : []
    }),
  )
  const callers = (data['people'] ?? []).map((person): readonly [string, Caller] => {
    const own = Object.entries({ id: 'id', ...attributes }).map(([name, field]) => [name, person[field as string]])
    const present = Object.fromEntries(own.filter(([, value]) => value !== null)) as Caller['attributes']
    return [
      printKey(rulebook.model, 'people', person),
      { signedIn: true, roles: person['duties'] as string[], attributes: present },
    ]
  })
  return { attributes, callers }
}

/** The keys of the records that a condition holds of, worked out in memory. */
function keysWhere({ rulebook, data }: World, table: string, condition: ReturnType<typeof permission>, caller: Caller) {
  const holds = evaluator(specialise(condition, caller), { caller, now: NOW, lookup: lookupIn(data) })
  return (data[table] ?? []).filter(holds).map((record) => printKey(rulebook.model, table, record))
}

describe('checking, on drawn worlds', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
  })

  // What is compared and explained is worked out before any database comes into it.
  const quickest = () => engines.find(({ name }) => name === 'better-sqlite3') as Engine

  it(`counts what everyone reaches as asking for each would, on ${engineNames.join(', ')}`, async function () {
    this.timeout(0)
    let reached = 0
    await fc.assert(
      fc.asyncProperty(worlds(6), async (world) => {
        const { rulebook } = world
        const named = Object.fromEntries(world.attempts.map(({ caller }, at) => [`caller${at}`, caller]))
        const { attributes, callers } = peopleOf(world)
        const everyone = everyoneIn(rulebook, { table: 'people', attributes })
        for (const engine of engines) {
          await load(engine, rulebook.model, world.data)
          const bench = openWorkbench({ rules: rulebook, callers: named, store: engine.store, clock: () => NOW })
          for (const table of TABLES) {
            const counts = await countForMany(bench, table, bench.names)
            for (const name of bench.names) {
              const expected = keysWhere(world, table, permission(rulebook, table, 'list'), bench.caller(name)).length
              expect(counts.get(name) ?? 0, `${engine.name} ${name}`).to.equal(expected)
            }
          }
          const { reaches } = await reachOfAll(bench, everyone, TABLES)
          expect(reaches.map(({ key }) => key)).to.have.members(callers.map(([key]) => key))
          for (const [key, caller] of callers) {
            const expected = Object.fromEntries(
              TABLES.map((table) => {
                const ways = ['list', 'get'].map((way) => permission(rulebook, table, way))
                return [table, new Set(ways.flatMap((each) => keysWhere(world, table, each, caller))).size]
              }),
            )
            reached += Object.values(expected).reduce((sum, each) => sum + each, 0)
            expect(reaches.find((each) => each.key === key)?.counts, `${engine.name} ${key}`).to.deep.equal(expected)
          }
        }
      }),
      options,
    )
    expect(reached).to.be.greaterThan(WORLDS)
  })

  it('compares two rulebooks as listing everything under both would', async function () {
    this.timeout(0)
    const engine = quickest()
    let changed = 0
    await fc.assert(
      fc.asyncProperty(worlds(2), fc.nat(), async (world, pick) => {
        const mutants = mutantsOf(world.rulebook).filter(({ change }) => / read | list | get | tie /.test(change))
        const after = (mutants[pick % mutants.length] as (typeof mutants)[number]).rulebook
        await load(engine, world.rulebook.model, world.data)
        const callers = Object.fromEntries(world.attempts.map(({ caller }, at) => [`caller${at}`, caller]))
        const subject = { rules: world.rulebook, callers, store: engine.store, clock: () => NOW }
        const bench = openWorkbench(subject)
        const { changes } = await compareRulebooks(bench, after)
        const apart = (table: string) => [world.rulebook, after].some((rules) => setsApart(rules, table))
        const ways = TABLES.flatMap((table) =>
          (apart(table) ? (['list', 'get'] as const) : (['list'] as const)).map((way) => ({ table, way })),
        )
        for (const name of bench.names) {
          for (const { table, way } of ways) {
            const sees = (rules: World['rulebook']) =>
              keysWhere(world, table, permission(rules, table, way), bench.caller(name))
            const [was, is] = [sees(world.rulebook), sees(after)]
            const found = changes.find(
              (each) => each.caller === name && each.table === table && each.action === way && !each.field,
            )
            const differing = (from: string[], to: string[]) => to.filter((key) => !from.includes(key))
            expect([...(found?.gained.keys ?? [])]).to.have.members(differing(was, is))
            expect([...(found?.lost.keys ?? [])]).to.have.members(differing(is, was))
            changed += differing(was, is).length + differing(is, was).length
            // Of a field, only what is newly shown of records that were open already counts.
            for (const field of Object.keys(world.rulebook.model.tables[table]?.fields ?? {})) {
              const shows = (rules: World['rulebook']) =>
                keysWhere(world, table, fieldSight(rules, table, field, way), bench.caller(name))
              const shown = changes.find(
                (each) => each.caller === name && each.table === table && each.action === way && each.field === field,
              )
              const both = differing(shows(world.rulebook), shows(after)).filter(
                (key) => was.includes(key) && is.includes(key),
              )
              expect([...(shown?.gained.keys ?? [])], field).to.have.members(both)
            }
          }
        }
      }),
      { ...options, numRuns: 3 * WORLDS },
    )
    expect(changed).to.be.greaterThan(0)
  })

  it('sees what can be read by its key alone', async function () {
    this.timeout(0)
    const engine = quickest()
    let beyond = 0
    await fc.assert(
      fc.asyncProperty(worlds(2), async (world) => {
        const { rulebook, data } = world
        await load(engine, rulebook.model, data)
        const callers = Object.fromEntries(world.attempts.map(({ caller }, at) => [`caller${at}`, caller]))
        const bench = openWorkbench({ rules: rulebook, callers, store: engine.store, clock: () => NOW })
        for (const caller of bench.names) {
          for (const table of TABLES) {
            const hidden = new Map<string, readonly string[]>()
            const add = (record: Readonly<Record<string, unknown>>) => {
              const { hidden: found } = record['$access'] as { readonly hidden: readonly string[] }
              const key = printKey(rulebook.model, table, record)
              hidden.set(key, hidden.get(key)?.filter((field) => found.includes(field)) ?? found)
              return key
            }
            const ends = (error: unknown) => {
              if (error instanceof RefusedError) return undefined
              throw error
            }
            const { fields, key: names } = tableOf(rulebook.model, table)
            const listed = ((await bench.as(caller).list(table, { access: true }).catch(ends)) ?? []).map(add)
            const single: string[] = []
            for (const record of data[table] ?? []) {
              const whole = Object.fromEntries(names.map((name) => [name, record[name]]))
              const given = names.length === 1 ? record[names[0]] : whole
              const found = await bench.as(caller).get(table, given, { access: true }).catch(ends)
              if (found) single.push(add(found))
            }
            const set = (about: Aspect, exactly: readonly string[]) =>
              ({ kind: 'set', caller, table, about, expected: { exactly } }) as const
            const fieldNames = Object.keys(fields).filter((field) => !names.includes(field as never))
            const without = (field: string) => [...hidden].filter(([, found]) => found.includes(field))
            const outcomes = await runExpectations(bench, [
              set({ what: 'sees' }, listed),
              set({ what: 'gets' }, single),
              ...fieldNames.map((field) =>
                set(
                  { what: 'hidden', field },
                  without(field).map(([key]) => key),
                ),
              ),
            ])
            expect(outcomes.filter(({ failures }) => failures.length > 0)).to.deep.equal([])
            beyond += single.filter((key) => !listed.includes(key)).length
          }
        }
      }),
      options,
    )
    expect(beyond).to.be.greaterThan(0)
  })

  it('explains each part of a verdict as it is', async function () {
    this.timeout(0)
    const engine = quickest()
    let explained = 0
    await fc.assert(
      fc.asyncProperty(worlds(3), async (world) => {
        await load(engine, world.rulebook.model, world.data)
        const callers = Object.fromEntries(world.attempts.map(({ caller }, at) => [`caller${at}`, caller]))
        const bench = openWorkbench({
          rules: world.rulebook,
          callers,
          store: engine.store,
          clock: () => NOW,
        })
        for (const [at, { table }] of world.attempts.entries()) {
          const caller = bench.caller(`caller${at}`)
          for (const record of world.data[table] ?? []) {
            for (const action of ['list', 'update', 'settle']) {
              const why = await explain(bench, {
                caller: `caller${at}`,
                table,
                action,
                key: printKey(world.rulebook.model, table, record),
              })
              const holds = evaluatorFor(world, caller)
              const isOpen = holds(permission(world.rulebook, table, action), record)
              expect(why.allowed, `${action} ${table} ${String(record['id'])}`).to.equal(isOpen)
              const granted = why.grants.some((grant) => grant.holds) && !why.denies.some((deny) => deny.holds)
              if (action === 'list') expect(granted).to.equal(isOpen)
              for (const { to, when } of why.grants) {
                for (const part of [...to, ...(when ? [when] : [])]) expect(part.holds).to.equal(part.lacking === 0)
              }
              explained += 1
            }
          }
        }
      }),
      options,
    )
    expect(explained).to.be.greaterThan(WORLDS)
  })
})

/** Whether the rules of a table say of lists what they do not say of single records, or the other way round. */
const setsApart = ({ tables }: World['rulebook'], table: string): boolean => {
  const { grants = {}, denies = {} } = tables[table] ?? {}
  const named = Object.values(denies).flatMap(({ on }) => on)
  return ['list', 'get'].some((way) => (grants[way]?.length ?? 0) > 0 || named.includes(way))
}

const evaluatorFor =
  ({ data, rulebook }: World, caller: Caller) =>
  (condition: ReturnType<typeof permission>, record: MemoryRecord) =>
    evaluator(specialise(expand(rulebook, condition), caller), { caller, now: NOW, lookup: lookupIn(data) })(record)
