import { expect } from 'chai'
import fc from 'fast-check'
import { ConflictError, createGuard, InputError, RefusedError, type Rulebook, type Rules, trusted } from 'pachter'
import { type BulkRefusal, BulkRefusedError } from 'pachter/guard'
import type { AnyStore } from './support/answers.js'
import { someoneIn } from './support/callers.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst, undoable } from './support/engines.js'
import { foreseen, givable } from './support/filled.js'
import { besideOn } from './support/conditions.js'
import { someOf } from './support/guesses.js'
import { keyIn, strangerTo } from './support/keys.js'
import { Oracle, type Someone } from './support/oracle.js'
import { aloneIn, type Sequence, sequencesOf, thenIn } from './support/sequences.js'
import { about, shown } from './support/shown.js'
import { NOW, recordOf, TABLES, valuesFrom, type World, worlds } from './support/worlds.js'

/** How many worlds are drawn for each engine, and how many bulk writes in each. */
const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 6)
const WRITES = 12

const { PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

/** The same done to several records, or several created. */
interface Bulk {
  readonly method: 'create' | 'update' | 'act' | 'delete'
  readonly table: string
  /** New records, or the keys of those that are changed or removed. */
  readonly all: readonly unknown[]
  readonly values: Readonly<Record<string, unknown>>
  readonly partly: boolean
}

/** Writes to records most of which are there, and of new ones. */
const bulkOn = ({ rulebook: { model }, data }: World): fc.Arbitrary<Bulk> =>
  fc.constantFrom(...TABLES).chain((table) => {
    const stored = (data[table] ?? []).map((row) => keyIn(model, table, row))
    const some = fc.shuffledSubarray(stored, { minLength: Math.min(2, stored.length) })
    const none = fc.constantFrom([], [], [strangerTo(model, table)])
    const keys = fc.tuple(some, none).map(([here, gone]) => [...here, ...gone])
    const record = recordOf(model, table).map((row) => givable(model, table, row))
    const bulk = (method: Bulk['method'], all: fc.Arbitrary<unknown[]>) => {
      const values = recordOf(model, table).chain((row) => valuesFrom(model, table, row, 'update'))
      return fc.record({ method: fc.constant(method), table: fc.constant(table), all, values, partly: fc.boolean() })
    }
    const created = fc.array(record, { minLength: 1, maxLength: 3 })
    return fc.oneof(bulk('create', created), ...(['update', 'act', 'delete'] as const).map((each) => bulk(each, keys)))
  })

/** Those of two records of which the first write makes another thing of the second. */
function tellingIn(
  world: World,
  caller: Someone,
  others: Readonly<Record<string, readonly object[]>>,
): readonly Bulk[] {
  const oracle = new Oracle(world.rulebook, world.data, caller, NOW)
  const isTelling = (each: Sequence) => !['', aloneIn(oracle, each)].includes(thenIn(oracle, each))
  const telling = sequencesOf(world, others as never).filter(isTelling)
  return someOf(telling).flatMap(({ action, keys: all, ...more }) => {
    const method = action === 'settle' ? 'act' : action
    return [true, false].map((partly) => ({ method, all, partly, ...more }))
  })
}

const WRITING = ['create', 'update', 'settle', 'delete']
const OPEN = Object.fromEntries(['read', ...WRITING].map((action) => [action, [{ to: [{ kind: 'always' }] }]]))

/** The same world, in which a write hangs on other records of the table and on nothing else. */
const openedIn = ({ rulebook, ...more }: World): fc.Arbitrary<World> => {
  const rules = TABLES.map((table) => {
    const { actions, ties } = rulebook.tables[table] as Rulebook['tables'][string]
    const base = { actions, ties, grants: OPEN, stamps: {}, checks: { fields: {}, records: {} } }
    const when = besideOn(rulebook.model, table)
    const opened = when.map((each) => ({
      ...base,
      denies: { beside: { on: WRITING, when: each, except: [], message: 'Denied beside.' } },
    }))
    return [table, opened] as const
  })
  return foreseen(
    fc
      .record(Object.fromEntries(rules))
      .map((tables) => ({ ...more, rulebook: { ...rulebook, tables: tables as Rulebook['tables'] } })),
  )
}

const writesIn = (world: World) => {
  const { model } = world.rulebook
  const caller = someoneIn(model) as fc.Arbitrary<Someone>
  const other = (table: string) => [table, recordOf(model, table).map((row) => [row])] as const
  const some = fc.array(fc.record({ caller, bulk: bulkOn(world) }), { minLength: WRITES, maxLength: WRITES })
  const telling = fc
    .tuple(caller, fc.record(Object.fromEntries(TABLES.map(other))))
    .map(([who, others]) => tellingIn(world, who, others).map((bulk) => ({ caller: who, bulk })))
  return fc.record({
    world: fc.constant(world),
    some,
    telling: fc.tuple(telling, telling).map((all) => all.flat()),
  })
}

/** Of worlds that are opened, those in which the order of writes matters. */
const drawn = fc.oneof(
  worlds(0).chain(writesIn),
  worlds(0, true)
    .chain(openedIn)
    .chain(writesIn)
    .filter(({ telling }) => telling.length > 0),
)

/** What comes of one write: what it returns, or what is told. */
type Outcome = { readonly record: unknown } | BulkRefusal

/** What is given to write one of the records, or all. */
const givenTo = ({ method, values }: Bulk, which: unknown): readonly unknown[] => {
  if (method === 'act') return ['settle', which, values]
  return method === 'update' ? [which, values] : [which]
}

async function writeOne(store: AnyStore, bulk: Bulk, at: number): Promise<Outcome> {
  const { method, table, all } = bulk
  try {
    const record = await store[method]?.(table, ...givenTo(bulk, all[at]))
    return { record: method === 'delete' ? all[at] : record }
  } catch (error) {
    const isTold = error instanceof RefusedError || error instanceof InputError || error instanceof ConflictError
    if (!isTold) throw error
    return { key: method === 'create' ? at : all[at], status: error.status, message: error.message }
  }
}

/** What a bulk write says: what was written and refused, or why all of it is. */
async function writeAll(store: AnyStore, bulk: Bulk): Promise<{ written: unknown[]; refused: readonly BulkRefusal[] }> {
  const { method, table, all, partly } = bulk
  try {
    const said = await store[`${method}Many`]?.(table, ...givenTo(bulk, all), { partly })
    if (partly) return said as Awaited<ReturnType<typeof writeAll>>
    return { written: method === 'delete' ? [...all] : (said as unknown[]), refused: [] }
  } catch (error) {
    if (error instanceof BulkRefusedError) return { written: [], refused: error.refusals }
    if (!(error instanceof RefusedError) && !(error instanceof InputError)) throw error
    // Refused before it is asked of which records: so each is.
    const { status, message } = error
    return { written: [], refused: all.map((key, at) => ({ key: method === 'create' ? at : key, status, message })) }
  }
}

describe('a bulk write', () => {
  for (const name of engineNames) {
    it(`is its writes one by one, or none of them, in ${WORLDS} worlds, on ${name}`, async function () {
      this.timeout(0)
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      let written = 0
      await fc.assert(
        fc.asyncProperty(drawn, async ({ world, some, telling }) => {
          const { rulebook, data } = world
          await load(engine, rulebook.model, data)
          const { store, undone } = undoable({ ...engine.store })
          const rules = rulebook as Rules<never, never>
          const guard = createGuard({ rules, store, clock: () => NOW, onDecision: () => undefined })
          const as = (caller: object) => guard.as(caller as never) as unknown as AnyStore
          const left = () => Promise.all(TABLES.map((each) => as(trusted('what is there'))['list']?.(each)))
          const before = await left()
          for (const { caller, bulk } of [...some, ...telling]) {
            const { method, table, all, partly } = bulk
            const inTurn = await undone(async () => {
              const work = async (inside: AnyStore) => {
                const outcomes: Outcome[] = []
                for (const at of all.keys()) outcomes.push(await writeOne(inside, bulk, at))
                return outcomes
              }
              return { outcomes: (await as(caller)['transaction']?.(work)) as Outcome[], left: await left() }
            })
            const alone: Outcome[] = []
            for (const at of all.keys()) alone.push(await undone(() => writeOne(as(caller), bulk, at)))
            const done = await undone(async () => ({ ...(await writeAll(as(caller), bulk)), left: await left() }))
            const keyOf = (each: unknown) => (method === 'delete' ? each : keyIn(rulebook.model, table, each as never))
            const refusedIn = (outcomes: readonly Outcome[]) => outcomes.filter((each) => 'status' in each)
            const refused = refusedIn(inTurn.outcomes)
            const place = () => shown({ world, caller, bulk, inTurn, alone, done })
            about(place, () => {
              if (partly || refused.length === 0) {
                const expected = inTurn.outcomes.flatMap((each) => ('record' in each ? [keyOf(each.record)] : []))
                expect(done.written.map(keyOf)).to.deep.equal(expected)
                expect(done.refused).to.deep.equal(refused)
                expect(done.left).to.deep.equal(inTurn.left)
                written += expected.length
                return
              }
              expect(done.left).to.deep.equal(before)
              const told = refusedIn(alone)
              const isTogether = told.length === 0
              const statuses = all.map((key, at) => [method === 'create' ? at : key, 409])
              if (isTogether) expect(done.refused.map(({ key, status }) => [key, status])).to.deep.equal(statuses)
              else expect(done.refused).to.deep.equal(told)
            })
          }
        }),
        { numRuns: WORLDS, endOnFailure: stopsAtFirst, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
      )
      expect(written).to.be.above(2 * WORLDS)
    })
  }
})
