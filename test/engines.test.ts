import { expect } from 'chai'
import fc from 'fast-check'
import {
  type Access,
  createGuard,
  decide,
  InputError,
  PachterError,
  predicate,
  RefusedError,
  type Rules,
  trusted,
} from 'pachter'
import { accessReader, accessQuestions, answer, evaluator, fieldMasks, isClosed, lookupIn } from 'pachter/decide'
import { checkCaller, checkRulebook, permission } from 'pachter/rules'
import type { SqlStore } from 'pachter/sql'
import { fieldOf } from 'pachter/model'
import { strangerFor } from './support/conditions.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst, undone } from './support/engines.js'
import { Oracle } from './support/oracle.js'
import { foretellRead, type Read } from './support/oracle-reads.js'
import { asGiven, type Question, readOn } from './support/questions.js'
import { type Attempt, NOW, someone, type World, worlds } from './support/worlds.js'

/** How many worlds are drawn, each with its own model, rulebook and data. */
const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 36)
/** How many callers and attempts are drawn in each, and how many reads with conditions, orders and related records. */
const ATTEMPTS = 36
const READS = 12

/** A read, and who asks. */
interface Asked {
  readonly caller: object
  readonly question: Question
}

/** Worlds with reads; in half of them, moments are stored to the microsecond and texts without regard to case, where a database can. */
const drawn = worlds(ATTEMPTS).chain((world) => {
  const { model } = world.rulebook
  const question = fc.constantFrom('items', 'items', 'boxes', 'people').chain((table) => readOn(model, table, true))
  const read = fc.record({ caller: someone, question }) as fc.Arbitrary<Asked>
  return fc.record({
    world: fc.constant(world),
    reads: fc.array(read, { minLength: READS, maxLength: READS }),
    isOdd: fc.boolean(),
  })
})

/**
 * What fast-check printed of a failure, to run just that again. In CI always the same worlds are drawn, so that
 * whether a change lands does not hang on luck; anywhere else every run draws new ones.
 */
const { PACHTER_SEED = process.env['CI'] ? '20261123' : undefined, PACHTER_PATH: path } = process.env
const replay = { ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }), ...(path && { path }) }

type Rows = readonly { record: Record<string, unknown>; access: Access }[]
type AnyStore = Record<string, (...given: unknown[]) => Promise<unknown>>

/** A record of which nothing is known yet. */
const nothingIn = ({ model }: World['rulebook'], table: string) =>
  Object.fromEntries(Object.keys(model.tables[table]?.fields ?? {}).map((name) => [name, null]))

/** What the caller of an attempt sees of its table, by memory alone. */
function listInMemory({ rulebook, data }: World, { caller: given, table }: Attempt): Rows | 'refused' {
  const caller = checkCaller(rulebook.caller, given)
  if (isClosed({ rulebook, table, action: 'list', caller })) return 'refused'
  const world = { caller, now: NOW, lookup: lookupIn(data) }
  const sees = predicate(rulebook, { caller: given, action: 'list', table, data, now: NOW })
  const masks = [...fieldMasks(rulebook, table, caller, 'list')].map(
    ([name, mask]) => [name, evaluator(mask, world)] as const,
  )
  const questions = accessQuestions(rulebook, table, caller)
  const accessOf = accessReader(rulebook, table, caller)
  // As code, as `predicate` has it, or put together of functions.
  const permitted = evaluator(permission(rulebook, table, 'list'), world)
  for (const record of data[table] ?? []) expect(permitted(record)).to.equal(sees(record))
  return (data[table] ?? []).filter(sees).map((record) => {
    const hidden = masks.filter(([, mask]) => !mask(record)).map(([name]) => name)
    const shown = Object.entries(record).filter(([name]) => !hidden.includes(name))
    return {
      record: Object.fromEntries(shown),
      access: accessOf(answer(questions, record, world)),
    }
  })
}

const guardOn = (rulebook: World['rulebook'], store: SqlStore, caller: object): AnyStore =>
  createGuard({
    rules: rulebook as Rules<never, never>,
    store,
    clock: () => NOW,
    ...('trusted' in caller && { onDecision: () => undefined }),
  }).as(caller as never) as unknown as AnyStore

async function listInEngine(
  { rulebook }: World,
  { caller, table }: Attempt,
  { store }: Engine,
): Promise<Rows | 'refused'> {
  try {
    const ask = async (form: string) => {
      const rows = (await guardOn(rulebook, store, caller)['list']?.(table, { access: true, form })) as readonly {
        $access: Access
      }[]
      return rows.map(({ $access, ...record }) => ({ record, access: $access }))
    }
    const [gathered, ...others] = [await ask('gather'), await ask('scan'), await ask('walk')]
    for (const other of others) expect(other).to.deep.equal(gathered)
    return gathered as Rows
  } catch (error) {
    if (error instanceof RefusedError) return 'refused'
    throw error
  }
}

/** The status memory gives an attempt. */
function attemptInMemory({ rulebook, data }: World, { caller, table, action, key, values }: Attempt) {
  const record = data[table]?.find(({ id }) => id === key)
  // A new record has to have a key of its own.
  const given = action === 'create' ? { ...values, id: strangerFor(fieldOf(rulebook.model, table, 'id')) } : values
  try {
    const { status, message } = decide(rulebook, {
      caller,
      table,
      action,
      data,
      now: NOW,
      ...(action !== 'create' && record && { record }),
      ...(action !== 'delete' && { values: given }),
    })
    return { status, message, given }
  } catch (error) {
    if (error instanceof InputError) return { status: 422, message: error.message, given }
    throw error
  }
}

/** The status an engine gives an attempt, and the record it leaves, before all is taken back. */
async function attemptInEngine(world: World, { caller, table, action, key }: Attempt, given: object, store: SqlStore) {
  return undone(store, async (inside) => {
    const { status, left } = await write(guardOn(world.rulebook, inside, caller))
    const stored = guardOn(world.rulebook, inside, trusted('look at what was stored'))
    return { status, left: status === 200 ? await stored['get']?.(table, left).catch(() => undefined) : undefined }
  })

  async function write(scoped: AnyStore): Promise<{ status: number; left?: unknown }> {
    try {
      if (action === 'create')
        return { status: 200, left: ((await scoped['create']?.(table, given)) as { id: unknown }).id }
      if (action === 'update') await scoped['update']?.(table, key, given)
      else if (action === 'delete') await scoped['delete']?.(table, key)
      else await scoped['act']?.(table, action, key, given)
      return { status: 200, left: key }
    } catch (error) {
      if (error instanceof PachterError && 'status' in error) return { status: error.status as number }
      throw error
    }
  }
}

/** What an engine answers to a read. */
async function readInEngine({ rulebook }: World, { caller, question }: Asked, store: SqlStore): Promise<Read> {
  const { method, table, given } = question
  const options = given.map((each) => (typeof each === 'object' && each !== null ? asGiven(each) : each))
  try {
    return { answer: await guardOn(rulebook, store, caller)[method]?.(table, ...options) }
  } catch (error) {
    if (error instanceof RefusedError) return { statuses: [error.status] }
    throw error
  }
}

const sorted = (rows: Rows | 'refused') =>
  rows === 'refused'
    ? rows
    : [...rows].sort((left, right) => (String(left.record['id']) < String(right.record['id']) ? -1 : 1))

/** The fields of each record that are seen, by key. */
const shownOf = (rows: Rows | 'refused') =>
  rows === 'refused' ? [] : rows.map(({ record }) => [record['id'], Object.keys(record).sort()])

const seenBy = (oracle: Oracle, { data }: World, { table }: Attempt) =>
  [...(data[table] ?? [])]
    .sort((left, right) => (String(left['id']) < String(right['id']) ? -1 : 1))
    .flatMap((record) => {
      const fields = oracle.sees(table, record, 'list')
      return fields ? [[record['id'], [...fields].sort()]] : []
    })

/** A world as text that can be read back: values JSON has no words for are written with their type. */
const shown = (world: unknown): string =>
  JSON.stringify(world, (_, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value), 1)

describe('memory, the databases, and an oracle of its own', () => {
  let opened: readonly Engine[]
  before(async () => {
    opened = await openEngines()
  })

  it(`agree on ${WORLDS * (ATTEMPTS + READS)} drawn cases`, async function () {
    this.timeout(0)
    const statuses: Record<number, number> = {}
    let answers = 0
    await fc.assert(
      fc.asyncProperty(drawn, async ({ world, reads, isOdd }) => {
        checkRulebook(world.rulebook)
        // Other columns need other stores: what a store has found out of its columns stays.
        const engines = opened.map((engine) => ({ ...engine, store: { ...engine.store } }))
        for (const engine of engines) await load(engine, world.rulebook.model, world.data, isOdd)
        for (const read of reads) {
          const foretold = foretellRead(new Oracle(world.rulebook, world.data, read.caller, NOW), read.question)
          for (const { name, store } of engines) {
            const place = () => `${name}\n${shown({ world, read, isOdd })}`
            const said = await readInEngine(world, read, store)
            if ('answer' in foretold) {
              answers += 1
              expect(said, place()).to.deep.equal(foretold)
            } else expect(foretold.statuses, place()).to.include((said as typeof foretold).statuses?.[0])
          }
        }
        for (const attempt of world.attempts) {
          const seen = sorted(listInMemory(world, attempt))
          const { status, message, given } = attemptInMemory(world, attempt)
          statuses[status] = (statuses[status] ?? 0) + 1
          const oracle = new Oracle(world.rulebook, world.data, attempt.caller, NOW)
          expect(shownOf(seen), shown({ ...world, attempts: [attempt] })).to.deep.equal(seenBy(oracle, world, attempt))
          const foretold = oracle.foretell(attempt.table, attempt.action, attempt.key, given)
          expect(foretold.statuses, `${message}\n${shown({ ...world, attempts: [attempt] })}`).to.include(status)
          const left = foretold.stored && { ...nothingIn(world.rulebook, attempt.table), ...foretold.stored }
          for (const engine of engines) {
            const place = () => `${engine.name}: ${message}\n${shown({ ...world, attempts: [attempt] })}`
            expect(sorted(await listInEngine(world, attempt, engine)), place()).to.deep.equal(seen)
            expect(await attemptInEngine(world, attempt, given, engine.store), place()).to.deep.equal({ status, left })
          }
        }
      }),
      { numRuns: WORLDS, endOnFailure: stopsAtFirst, ...replay },
    )
    console.log(
      `      by outcome: ${Object.entries(statuses)
        .map(([status, count]) => `${count} × ${status}`)
        .join(', ')}; ${answers} reads answered; on ${engineNames.join(', ')}`,
    )
    // A generator that only ever drew refusals would prove little.
    expect(statuses[200]).to.be.greaterThan(WORLDS)
    expect(answers).to.be.greaterThan(WORLDS * opened.length)
  })
})
