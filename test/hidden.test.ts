import { expect } from 'chai'
import fc from 'fast-check'
import {
  accessQuestions,
  accessReader,
  answer,
  checkCaller,
  createGuard,
  type Data,
  lookupIn,
  type Rules,
  trusted,
} from 'pachter'
import { childrenOf, parentsOf } from 'pachter/model'
import type { Store } from 'pachter/store'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { type Engine, engineNames, load, openEngines, undone } from './support/engines.js'
import { Oracle, type Someone } from './support/oracle.js'
import { asGiven, attemptsIn, type Question, questionOn } from './support/questions.js'
import { NOW, recordOf, someone, type World, worlds } from './support/worlds.js'

/** How many pairs of databases are drawn, and how many questions are asked of each. */
const PAIRS = Number(process.env['PACHTER_PAIRS'] ?? 16)
const QUESTIONS = Number(process.env['PACHTER_QUESTIONS'] ?? 40)

const { PACHTER_SEED = process.env['CI'] ? '20261125' : undefined } = process.env

type Row = Readonly<Record<string, unknown>>
type AnyStore = Record<string, (...given: unknown[]) => unknown>

/** Changes to a database: a value, a record more, a record less. */
interface Change {
  readonly table: string
  readonly at: number
  readonly record: Row
  readonly how: 'value' | 'more' | 'less'
  readonly field: number
}

interface Pair {
  readonly world: World
  readonly who: Someone
  readonly changes: readonly Change[]
  readonly questions: readonly Question[]
}

const TABLES = ['items', 'boxes', 'people', 'shares']

const pairs: fc.Arbitrary<Pair> = worlds(0, false).chain((world) => {
  const { model } = world.rulebook
  const change = fc.constantFrom('items', 'boxes', ...TABLES).chain((table) =>
    fc.record({
      table: fc.constant(table),
      at: fc.nat(3),
      record: recordOf(model, table),
      how: fc.constantFrom('value' as const, 'value' as const, 'more' as const, 'less' as const),
      field: fc.nat(6),
    }),
  )
  return fc.record({
    world: fc.constant(world),
    who: someone as fc.Arbitrary<Someone>,
    changes: fc.array(change, { minLength: 30, maxLength: 60 }),
    questions: fc.array(questionOn(model), { minLength: QUESTIONS, maxLength: QUESTIONS }),
  })
})

function changed(data: Data, key: readonly string[], { table, at, record, how, field }: Change): Data {
  const rows = data[table] ?? []
  const isSame = (other: Row) => key.every((name) => other[name] === record[name])
  if (how === 'more') return rows.some(isSame) ? data : { ...data, [table]: [...rows, record] }
  if (how === 'less') return { ...data, [table]: rows.filter((_, each) => each !== at) }
  const names = Object.keys(record).filter((name) => !key.includes(name))
  const name = names[field % names.length] as string
  return { ...data, [table]: rows.map((row, each) => (each === at ? { ...row, [name]: record[name] } : row)) }
}

/** All that a caller sees of a database, and may do to it: what two databases have in common where they differ in secret. */
function viewOf(world: World, data: Data, who: Someone): string {
  const { rulebook } = world
  const oracle = new Oracle(rulebook, data, who, NOW)
  const caller = checkCaller(rulebook.caller, who)
  const place = { caller, now: NOW, lookup: lookupIn(data) }
  const shown = Object.keys(rulebook.tables).flatMap((table) =>
    (['list', 'get'] as const).flatMap((how) => {
      const questions = accessQuestions(rulebook, table, caller, how)
      const access = accessReader(rulebook, table, caller, how)
      return [...(data[table] ?? [])]
        .sort((left, right) => (String(left['id']) < String(right['id']) ? -1 : 1))
        .flatMap((row) => {
          const fields = oracle.sees(table, row, how)
          if (!fields) return []
          const shownFields = fields.map((name) => [name, row[name]])
          return [[table, how, row['id'], shownFields, access(answer(questions, row, place))]]
        })
    }),
  )
  return JSON.stringify(shown, (_, value: unknown) => (typeof value === 'bigint' ? `${value}n` : value))
}

/** The same database to this caller, as different as can be to everybody else. */
function inSecret({ world, who, changes }: Pair): Data {
  const view = viewOf(world, world.data, who)
  let data = world.data
  for (const change of changes) {
    const key = world.rulebook.model.tables[change.table]?.key ?? []
    const next = changed(data, key, change)
    if (viewOf(world, next, who) === view) data = next
  }
  return data
}

/**
 * Whether the rules themselves decide about a write by what is hidden: what they come to is told, as it has to be. Which
 * grants hold is a part of that: a rule's message is for those whom a grant lets.
 */
function isDecidedAlike({ world, who }: Pair, other: Data, question: Question): boolean {
  const [one, two] = [world.data, other].map((data) => new Oracle(world.rulebook, data, who, NOW)) as [Oracle, Oracle]
  const { table } = question
  return attemptsIn(question).every(({ action, key, values }) => {
    const foretell = (oracle: Oracle) => [
      oracle.foretell(table, action, key, values).statuses,
      oracle.holding(table, action, key, values),
    ]
    return JSON.stringify(foretell(one)) === JSON.stringify(foretell(two))
  })
}

/** An answer, or an error with all that can be got out of it. */
async function answered(work: () => unknown): Promise<unknown> {
  try {
    return await work()
  } catch (error) {
    if (!(error instanceof Error)) throw error
    const own = Object.fromEntries(
      Object.getOwnPropertyNames(error)
        .filter((name) => name !== 'stack')
        .map((name) => [name, (error as never)[name]]),
    )
    return { error: error.name, own, text: String(error), json: JSON.stringify(error) }
  }
}

const READS = ['list', 'get', 'count', 'exists', 'stream', 'view', 'filter']

/** An engine as one caller of a pair may use it, for both databases: what was compiled serves again. */
function opened({ world, who }: Pair, { store }: Engine) {
  let current = store
  const switched: Store = {
    dialect: store.dialect,
    query: (statement, values) => current.query(statement, values),
    transaction: (work) => current.transaction(work),
  }
  const shared = { rules: world.rulebook as Rules<never, never>, store: switched }
  return {
    store,
    scoped: createGuard({ ...shared, clock: () => NOW }).as(who as never) as unknown as AnyStore,
    everything: createGuard({ ...shared, onDecision: () => undefined }).as(
      trusted('what is there'),
    ) as unknown as AnyStore,
    undone: <T>(work: () => Promise<T>): Promise<T> =>
      undone(store, async (inside) => {
        current = inside
        try {
          return await work()
        } finally {
          current = store
        }
      }),
  }
}

async function ask(
  { world, who }: Pair,
  { store, scoped, everything, undone: takenBack }: ReturnType<typeof opened>,
  { method, table, given }: Question,
): Promise<unknown> {
  const q = store.dialect.identifier
  if (method === 'view' || method === 'filter') {
    return answered(async () => {
      const piece = scoped[method]?.(table, ...given) as { text: string; values: unknown[] }
      const from = method === 'view' ? `${piece.text} AS v` : `${q(table)} AS _0 WHERE ${piece.text}`
      const { rows } = await store.query(
        `SELECT ${method === 'view' ? 'v.*' : `_0.${q('id')}`} FROM ${from} ORDER BY 1`,
        piece.values,
      )
      return rows
    })
  }
  if (method === 'stream') {
    return answered(async () => {
      const found: unknown[] = []
      for await (const row of scoped['stream']?.(table, ...given) as AsyncIterable<unknown>) found.push(row)
      return found
    })
  }
  if (READS.includes(method)) {
    const options = given.map((each) => (typeof each === 'object' && each !== null ? asGiven(each) : each))
    return answered(() => scoped[method]?.(table, ...options))
  }
  return takenBack(async () => {
    const args = method === 'act' ? [given[0], table, ...given.slice(1)] : [table, ...given]
    const said = await answered(() => scoped[method]?.(...args))
    // What a write leaves behind is an answer, too.
    const left: unknown[] = []
    for (const each of ['items', 'boxes']) left.push(await answered(() => scoped['list']?.(each, { access: true })))
    const tables: Record<string, unknown> = {}
    for (const each of TABLES) tables[each] = await everything['list']?.(each)
    return { said, left, view: viewOf(world, tables as Data, who) }
  })
}

const shown = (value: unknown): string =>
  JSON.stringify(value, (_, each: unknown) => (typeof each === 'bigint' ? `${each}n` : each), 1)

describe('what is hidden', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
  })

  it(`makes no difference to ${PAIRS * QUESTIONS} questions, on ${engineNames.join(', ')}`, async function () {
    this.timeout(0)
    const counts = { asked: 0, decided: 0, differing: 0 }
    await fc.assert(
      fc.asyncProperty(pairs, async (pair) => {
        const other = inSecret(pair)
        if (shown(other) !== shown(pair.world.data)) counts.differing += 1
        const questions = pair.questions.filter((question) => isDecidedAlike(pair, other, question))
        counts.decided += pair.questions.length - questions.length
        const { model } = pair.world.rulebook
        for (const engine of engines) {
          const answers: unknown[][] = []
          const asked = opened(pair, engine)
          for (const data of [pair.world.data, other]) {
            await load(engine, model, data)
            const said: unknown[] = []
            for (const question of questions) said.push(await ask(pair, asked, question))
            answers.push(said)
          }
          const [here, there] = answers as [unknown[], unknown[]]
          questions.forEach((question, at) => {
            // What the rules make, after a write, of what is hidden is theirs to tell.
            const [view, otherView] = [here[at], there[at]].map((each) => (each as { view?: string } | null)?.view)
            if (view !== otherView) return void (counts.decided += 1)
            counts.asked += 1
            const place = () =>
              `${engine.name}\n${shown({ ...pair, other, questions: [question], here: here[at], there: there[at] })}`
            expect(here[at], place()).to.deep.equal(there[at])
          })
        }
      }),
      {
        numRuns: PAIRS,
        endOnFailure: process.env['PACHTER_SHRINK'] === 'no',
        ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }),
      },
    )
    console.log(
      `      ${counts.asked} questions, of ${counts.differing} pairs that differ; ${counts.decided} left out, since the rules themselves decide by what is hidden`,
    )
    expect(counts.differing).to.be.greaterThan(PAIRS / 4)
  })

  it('makes no difference in Korenveld, along any reference', async function () {
    this.timeout(0)
    const data = (await readData()) as Data
    const world = { rulebook: korenveld as unknown as World['rulebook'], data, attempts: [] }
    const { model } = world.rulebook
    for (const who of [callers.nobody, callers.ana, callers.ben] as Someone[]) {
      const view = viewOf(world, data, who)
      let other = data
      let differing = 0
      for (const table of ['plots', 'rents', 'applications']) {
        const rows = data[table] ?? []
        const { key, fields } = model.tables[table] as (typeof model)['tables'][string]
        rows.forEach((row, at) => {
          // Whatever is not the key is another record's, where that changes nothing of what is seen.
          const next = rows[(at + 1) % rows.length] as Row
          for (const name of Object.keys(fields).filter((each) => !key.includes(each))) {
            const changedRow = { ...other[table]?.[at], [name]: next[name] }
            const secret = {
              ...other,
              [table]: (other[table] ?? []).map((each, place) => (place === at ? changedRow : each)),
            }
            const isHidden = !new Oracle(world.rulebook, data, who, NOW).sees(table, row, 'list')?.includes(name)
            if (!isHidden || row[name] === next[name] || viewOf(world, secret, who) !== view) continue
            other = secret
            differing += 1
          }
        })
      }
      expect(differing).to.be.greaterThan(20)
      for (const engine of engines) {
        const answers: unknown[] = []
        for (const each of [data, other]) {
          await load(engine, model, each)
          const { scoped } = opened({ world, who, changes: [], questions: [] }, engine)
          const said: unknown[] = []
          for (const table of Object.keys(model.tables)) {
            const related = [...parentsOf(model, table), ...childrenOf(model, table)].map(
              ({ name, to, one }) => [name, one ? true : { by: to }] as const,
            )
            said.push([table, await answered(() => scoped['list']?.(table, { with: Object.fromEntries(related) }))])
          }
          answers.push(said)
        }
        expect(answers[0], engine.name).to.deep.equal(answers[1])
      }
    }
  })
})
