import { expect } from 'chai'
import fc from 'fast-check'
import { ConflictError, createGuard, InputError, RefusedError, type Rules, trusted } from 'pachter'
import { BulkRefusedError } from 'pachter/guard'
import type { AnyStore } from './support/answers.js'
import { someoneIn } from './support/callers.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst, undoable } from './support/engines.js'
import { givable } from './support/filled.js'
import { keyIn, strangerTo, textOfKey, withKey } from './support/keys.js'
import type { Question } from './support/questions.js'
import { about, shown } from './support/shown.js'
import { NOW, recordOf, TABLES, valuesFrom, type World, worlds } from './support/worlds.js'

/** How many worlds are drawn for each engine, and how many bulk writes in each. */
const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 24)
const WRITES = 24

const { PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

/** Writes to records most of which are there, and of new ones. */
const bulkOn = ({ rulebook: { model }, data }: World): fc.Arbitrary<Question> =>
  fc.constantFrom(...TABLES).chain((table) => {
    const stored = (data[table] ?? []).map((row) => keyIn(model, table, row))
    const stranger = fc.constantFrom([], [], [strangerTo(model, table)])
    const keys = fc
      .tuple(fc.shuffledSubarray(stored, { minLength: Math.min(2, stored.length) }), stranger)
      .map(([some, more]) => [...some, ...more])
    const some = recordOf(model, table).chain((row) => valuesFrom(model, table, row, 'update'))
    const whole = recordOf(model, table).map((row) => givable(model, table, row))
    const asked = (method: string, ...given: fc.Arbitrary<unknown>[]) =>
      fc.tuple(...given, fc.record({ partly: fc.boolean() })).map((all): Question => ({ method, table, given: all }))
    return fc.oneof(
      asked('createMany', fc.array(whole, { minLength: 1, maxLength: 3 })),
      asked('updateMany', keys, some),
      asked('actMany', fc.constant('settle'), keys, some),
      asked('deleteMany', keys),
    )
  })

const drawn = worlds(0).chain((world) => {
  const write = fc.record({ caller: someoneIn(world.rulebook.model), question: bulkOn(world) })
  return fc.record({ world: fc.constant(world), writes: fc.array(write, { minLength: WRITES, maxLength: WRITES }) })
})

/** A write to one record. */
interface Single {
  /** What a refusal names it by. */
  readonly key: unknown
  readonly method: string
  readonly given: readonly unknown[]
}

/** What a bulk write does, one by one. */
function singlesOf({ rulebook: { model } }: World, { method, table, given }: Question): readonly Single[] {
  if (method === 'createMany')
    return (given[0] as unknown[]).map((values, at) => ({ key: at, method: 'create', given: [values] }))
  const [keys, ...more] = (method === 'actMany' ? given.slice(1) : given) as [unknown[], ...unknown[]]
  const names = new Map(keys.map((key) => [textOfKey(model, table, withKey(model, table, key)), key]))
  return [...names.values()].map((key) => {
    if (method === 'actMany') return { key, method: 'act', given: [given[0], key, more[0]] }
    return method === 'updateMany'
      ? { key, method: 'update', given: [key, more[0]] }
      : { key, method: 'delete', given: [key] }
  })
}

type Told = { readonly record: unknown } | { readonly status: number; readonly message: string }

/** What comes of a write, where it is told. */
async function toldOf(work: () => unknown): Promise<Told> {
  try {
    return { record: await work() }
  } catch (error) {
    const isTold = error instanceof RefusedError || error instanceof InputError || error instanceof ConflictError
    if (!isTold) throw error
    return { status: error.status, message: error.message }
  }
}

describe('a bulk write', () => {
  for (const name of engineNames) {
    it(`is its writes one by one, or none of them, in ${WORLDS} worlds, on ${name}`, async function () {
      this.timeout(0)
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      const counts = { written: 0, refused: 0, together: 0 }
      await fc.assert(
        fc.asyncProperty(drawn, async ({ world, writes }) => {
          const { rulebook } = world
          const { model } = rulebook
          await load(engine, model, world.data)
          const { store, undone } = undoable({ ...engine.store })
          const guard = createGuard({
            rules: rulebook as Rules<never, never>,
            store,
            clock: () => NOW,
            onDecision: () => undefined,
          })
          const as = (caller: object) => guard.as(caller as never) as unknown as AnyStore
          const left = async () => {
            const tables: unknown[] = []
            for (const table of Object.keys(model.tables))
              tables.push(await as(trusted('what is there'))['list']?.(table))
            return tables
          }
          for (const { caller, question } of writes) {
            const { method, table, given } = question
            const singles = singlesOf(world, question)
            const { partly } = given.at(-1) as { partly: boolean }
            const keyOf = (record: unknown) => (method === 'deleteMany' ? record : keyIn(model, table, record as never))
            const run = (store: AnyStore, single: Single) =>
              toldOf(async () => {
                const record = await store[single.method]?.(table, ...single.given)
                return method === 'deleteMany' ? single.key : record
              })
            const inTurn = await undone(async () => {
              const outcomes = (await as(caller)['transaction']?.(async (inside: AnyStore) => {
                const all: Told[] = []
                for (const single of singles) all.push(await run(inside, single))
                return all
              })) as Told[]
              return { outcomes, left: await left() }
            })
            const written = inTurn.outcomes.flatMap((each) => ('record' in each ? [keyOf(each.record)] : []))
            const refusalsOf = (outcomes: readonly Told[]) =>
              outcomes.flatMap((each, at) => ('status' in each ? [{ key: singles[at]?.key, ...each }] : []))
            const refused = refusalsOf(inTurn.outcomes)
            const done = await undone(async () => {
              const said = await Promise.resolve(as(caller)[method]?.(table, ...given)).catch((error: unknown) => {
                if (error instanceof BulkRefusedError) return { refused: error.refusals }
                if (error instanceof RefusedError || error instanceof InputError)
                  return { status: error.status, message: error.message }
                throw error
              })
              return { said, left: await left() }
            })
            const place = () => shown({ world, caller, questions: [question], inTurn, done })
            about(place, () => {
              const said = done.said as never
              if (typeof said === 'object' && said !== null && 'message' in said) {
                // Refused as a whole: so is each.
                expect(written).to.deep.equal([])
                return
              }
              if (partly) {
                expect({
                  written: ((said as { written: unknown[] }).written ?? []).map(keyOf),
                  refused: (said as { refused: unknown }).refused,
                }).to.deep.equal({ written, refused })
                expect(done.left).to.deep.equal(inTurn.left)
              } else if (refused.length === 0) {
                if (method !== 'deleteMany') expect((said as unknown[]).map(keyOf)).to.include.deep.members(written)
                expect(done.left).to.deep.equal(inTurn.left)
              } else expect((said as { refused: unknown[] }).refused.length).to.be.above(0)
            })
            counts.written += written.length
            counts.refused += refused.length
            if (partly || refused.length === 0) continue
            const alone: Told[] = []
            for (const single of singles) alone.push(await undone(() => run(as(caller), single)))
            const expected = refusalsOf(alone)
            if (expected.length === 0) counts.together += 1
            about(place, () => {
              if ('message' in (done.said as object)) return
              const { refused: told } = done.said as { refused: { status: number; key: unknown }[] }
              if (expected.length > 0) expect(told).to.deep.equal(expected)
              else
                expect(told.map(({ key, status }) => [key, status])).to.deep.equal(singles.map(({ key }) => [key, 409]))
            })
          }
        }),
        { numRuns: WORLDS, endOnFailure: stopsAtFirst, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
      )
      console.log(`      ${JSON.stringify(counts)}`)
      expect(counts.written).to.be.above(WORLDS)
    })
  }
})
