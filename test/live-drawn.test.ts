import { setTimeout } from 'node:timers/promises'
import { inspect as shown } from 'node:util'
import { expect } from 'chai'
import fc from 'fast-check'
import { createGuard, PachterError, type Rules, trusted } from 'pachter'
import { followTriggers, followWrites, installTriggers } from 'pachter/live'
import { fieldOf, type ModelData } from 'pachter/model'
import { someoneIn } from './support/callers.js'
import { givable } from './support/filled.js'
import { type Engine, load, openEngines, stopsAtFirst } from './support/engines.js'
import { following, until } from './support/followed.js'
import { drawnQuery } from './support/queries.js'
import { idsFor } from './support/values.js'
import { recordOf, type World, worlds } from './support/worlds.js'

/** How many worlds are drawn for each engine. */
const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 4)

const { PACHTER_SEED = process.env['CI'] ? '20261126' : undefined } = process.env

interface Write {
  readonly table: string
  readonly kind: 'create' | 'update' | 'delete'
  readonly key: Readonly<Record<string, unknown>>
  readonly values: Readonly<Record<string, unknown>>
  /** What an update sets. */
  readonly set: readonly string[]
  /** The key of another record that is written in the same way, in one go. */
  readonly another: Readonly<Record<string, unknown>> | undefined
  readonly within: (typeof WITHIN)[number]
}

/** What is around a write: nothing, a transaction, one in another, or one that is taken back. */
const WITHIN = ['nothing', 'one', 'two', 'takenBack'] as const

const writesOn = (model: ModelData) =>
  fc.array(
    fc.constantFrom(...Object.keys(model.tables)).chain((table) => {
      const { key, fields } = model.tables[table] as ModelData['tables'][string]
      const keys = fc.record(
        Object.fromEntries(key.map((name) => [name, fc.constantFrom<unknown>(...idsFor(fieldOf(model, table, name)))])),
      )
      const others = Object.keys(givable(model, table, fields)).filter((name) => !key.includes(name))
      return fc.record({
        table: fc.constant(table),
        kind: fc.constantFrom(
          ...(others.length > 0
            ? (['create', 'update', 'update', 'delete'] as const)
            : (['create', 'delete'] as const)),
        ),
        key: keys,
        another: fc.option(keys, { nil: undefined }),
        within: fc.constantFrom(...WITHIN),
        values: recordOf(model, table).map((record) => givable(model, table, record)),
        set: fc.subarray(others, { minLength: Math.min(1, others.length), maxLength: Math.min(3, others.length) }),
      })
    }),
    { minLength: 4, maxLength: 10 },
  )

/** What is followed of each table that has rules. */
const queriesOf = ({ rulebook: { model, tables } }: World) =>
  fc.record(
    Object.fromEntries(
      Object.keys(tables).map((table) => [
        table,
        fc
          .array(drawnQuery(model, table, 1, true), { minLength: 2, maxLength: 2 })
          .map((drawn) => [{ access: true }, { limit: 2, access: false }, ...drawn]),
      ]),
    ),
  )

const drawn = worlds(0).chain((world) =>
  fc.record({
    world: fc.constant(world),
    callers: fc.array(someoneIn(world.rulebook.model), { minLength: 3, maxLength: 3 }),
    writes: writesOn(world.rulebook.model),
    queries: queriesOf(world),
  }),
)

const inspect = (value: unknown): string => shown(value, { depth: 12, sorted: true, maxArrayLength: null })

type Drawn = typeof drawn extends fc.Arbitrary<infer D> ? D : never

/** The lists that a caller follows, as they came in, and what came last instead. */
interface Seen {
  readonly at: string
  readonly table: string
  readonly query: object
  state: string
}

/** @returns how many lists were compared */
async function follows({ store, name }: Engine, { world, callers, writes, queries }: Drawn) {
  const { rulebook, data } = world
  const rules = rulebook as Rules<never, never>
  const { model } = rulebook
  await load({ store, name } as Engine, model, data)
  const notifies = store.dialect.name === 'postgresql'
  if (notifies) for (const each of installTriggers(model)) await store.query(each, [])
  const followed = notifies ? followTriggers(store, model) : followWrites(store)
  const named = Object.fromEntries(callers.map((caller, at) => [`${at}`, caller]))
  const around = await following(rules, followed, named, { recheckSeconds: 60 })
  const seen: Seen[] = []
  const clients = new Map(Object.keys(named).map((each) => [each, around.clientOf(each)]))
  for (const [at, client] of clients) {
    for (const table of Object.keys(rulebook.tables)) {
      for (const query of queries[table] ?? []) {
        const each: Seen = { at, table, query, state: '' }
        seen.push(each)
        client.follow(table, query, {
          records: ({ records }: { records: unknown }) => (each.state = inspect(records)),
          refused: (error: Error) => (each.state = error.message),
        })
      }
    }
  }
  const listed = async ({ at, table, query }: Seen) => {
    try {
      return inspect((await clients.get(at)?.list(table, query))?.records)
    } catch (error) {
      return (error as Error).message
    }
  }
  const differing = async () => {
    for (const each of seen) {
      const now = await listed(each)
      if (now !== each.state) return { ...each, now }
    }
    return undefined
  }
  const settled = async (when: unknown) => {
    let difference: unknown
    const isSame = await until(async () => (difference = await differing()) === undefined)
    expect(isSame ? undefined : difference, `after ${inspect(when)}`).to.equal(undefined)
  }
  // What others write: past the store that is followed, where the database tells of it.
  const writer = createGuard({ rules, store: notifies ? store : followed, onDecision: () => undefined }).as(
    trusted('whatever is written') as never,
  ) as unknown as Writer
  try {
    await settled('the start')
    for (const write of writes) {
      await done(writer, write)
      await settled(write)
    }
    expect(around.failures.map(inspect)).to.deep.equal([])
  } finally {
    for (const client of clients.values()) client.close()
    await around.live.close()
  }
  return seen.length * (writes.length + 1)
}

interface Writer {
  create(table: string, values: object): Promise<unknown>
  createMany(table: string, records: readonly object[], options: object): Promise<unknown>
  update(table: string, key: object, values: object): Promise<unknown>
  updateMany(table: string, keys: readonly object[], values: object, options: object): Promise<unknown>
  delete(table: string, key: object): Promise<unknown>
  deleteMany(table: string, keys: readonly object[], options: object): Promise<unknown>
  transaction(work: (writer: Writer) => Promise<unknown>): Promise<unknown>
}

class TakenBack extends Error {}

/** Writes, or not, where something stored stands in the way. */
async function done(writer: Writer, { table, kind, key, another, values, set, within }: Write): Promise<void> {
  const partly = { partly: true }
  const changed = Object.fromEntries(set.map((name) => [name, values[name] ?? null]))
  const writes = {
    create: (to: Writer) => {
      if (!another) return to.create(table, { ...values, ...key })
      return to.createMany(
        table,
        [key, another].map((each) => ({ ...values, ...each })),
        partly,
      )
    },
    update: (to: Writer) =>
      another ? to.updateMany(table, [key, another], changed, partly) : to.update(table, key, changed),
    delete: (to: Writer) => (another ? to.deleteMany(table, [key, another], partly) : to.delete(table, key)),
  }
  const write = writes[kind]
  const around = {
    nothing: () => write(writer),
    one: () => writer.transaction(write),
    // What is told before all of it is done would be looked for too early.
    two: () => writer.transaction((inside) => inside.transaction(write).then(() => setTimeout(20))),
    takenBack: () =>
      writer.transaction(async (inside) => {
        await write(inside)
        throw new TakenBack()
      }),
  }
  try {
    await around[within]()
  } catch (error) {
    if (!(error instanceof PachterError || error instanceof TakenBack)) throw error
  }
}

describe('live lists, drawn', function () {
  this.timeout(600_000)
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
  })

  for (const name of ['better-sqlite3', 'MariaDB', 'PGlite', 'PostgreSQL']) {
    it(`are what a list is, whatever is written, on ${name}`, async function () {
      const engine = engines.find((each) => each.name === name)
      if (!engine) return this.skip()
      let compared = 0
      await fc.assert(
        fc.asyncProperty(drawn, async (each) => {
          compared += await follows(engine, each)
        }),
        {
          numRuns: WORLDS,
          endOnFailure: stopsAtFirst,
          ...(PACHTER_SEED !== undefined && { seed: Number(PACHTER_SEED) }),
        },
      )
      expect(compared).to.be.above(WORLDS)
    })
  }
})
