import { expect } from 'chai'
import fc from 'fast-check'
import type { Context } from 'mocha'
import { createGuard, type Data } from 'pachter'
import { childrenOf, parentsOf } from 'pachter/model'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { answered, answersTo, type AnyStore, directly, READS, WRITES } from './support/answers.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst } from './support/engines.js'
import { overHttp, questionOver } from './support/over-http.js'
import { Oracle, type Someone } from './support/oracle.js'
import { inSecret, isDecidedAlike, pairs, unnoticedBy } from './support/pairs.js'
import { claimsAt, guessesAt, sequencesIn } from './support/guesses.js'
import { questionOn } from './support/questions.js'
import { about, shown } from './support/shown.js'
import { NOW, type World } from './support/worlds.js'

/** How many pairs of databases are drawn, and how many questions are asked of each. */
const PAIRS = Number(process.env['PACHTER_PAIRS'] ?? 28)
const QUESTIONS = Number(process.env['PACHTER_QUESTIONS'] ?? 24)

/** How many pairs are guessed at. */
const GUESSED = 6 * PAIRS

const { PACHTER_SEED = process.env['CI'] ? '33' : undefined } = process.env

type Row = Readonly<Record<string, unknown>>

describe('what is hidden', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
  })

  /** Asks both databases of pairs, and says of which methods something was not refused. */
  async function compared(
    numRuns: number,
    on: readonly Engine[],
    draw = questionOn,
    asking = directly,
  ): Promise<ReadonlySet<string>> {
    const counts = { asked: 0, decided: 0, differing: 0 }
    const done = new Set<string>()
    await fc.assert(
      fc.asyncProperty(pairs(QUESTIONS, draw), async (pair) => {
        const other = inSecret(pair)
        if (shown(other) !== shown(pair.world.data)) counts.differing += 1
        const questions = pair.questions.filter((question) => isDecidedAlike(pair, other, question))
        counts.decided += pair.questions.length - questions.length
        for (const engine of on) {
          const [here, there] = await answersTo(pair, other, questions, engine, { asking })
          questions.forEach((question, at) => {
            // What the rules make, after a write, of what is hidden is theirs to tell.
            const [view, otherView] = [here[at], there[at]].map((each) => (each as { view?: string } | null)?.view)
            if (view !== otherView) return void (counts.decided += 1)
            counts.asked += 1
            const { said = here[at] } = (here[at] ?? {}) as { said?: unknown }
            if (!(said as { error?: unknown } | undefined)?.error) done.add(question.method)
            const place = () =>
              `${engine.name}\n${shown({ ...pair, other, questions: [question], here: here[at], there: there[at] })}`
            about(place, () => expect(here[at]).to.deep.equal(there[at]))
          })
        }
      }),
      { numRuns, endOnFailure: stopsAtFirst, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
    )
    console.log(
      `      ${counts.asked} questions, of ${counts.differing} pairs that differ; ${counts.decided} left out, since the rules themselves decide by what is hidden`,
    )
    expect(counts.differing).to.be.greaterThan(numRuns / 4)
    return done
  }

  it(`makes no difference to ${PAIRS * QUESTIONS} questions, on ${engineNames.join(', ')}`, async function () {
    this.timeout(0)
    const done = await compared(PAIRS, engines)
    // What is refused each time it is asked would show little. With these draws, nothing is.
    if (process.env['CI'] && PAIRS >= 28) expect([...done].sort()).to.deep.equal([...READS, ...WRITES].sort())
  })

  it(`makes no difference over HTTP, in ${PAIRS} pairs, on better-sqlite3`, async function () {
    this.timeout(0)
    const sqlite = engines.filter(({ name }) => name === 'better-sqlite3')
    const done = await compared(PAIRS, sqlite, questionOver, overHttp)
    const often = ['list', 'get', 'update', 'delete', 'act', 'deleteMany']
    if (process.env['CI'] && PAIRS >= 28) expect([...done]).to.include.members(often)
  })

  // What is asked is made safe before any database comes into it; the worlds of `engines.test.ts` ask it of all.
  it(`is not found by those who guess at it, in ${GUESSED} pairs, on better-sqlite3`, function () {
    return guessed.call(this, GUESSED, false)
  })

  it(`is not found by what is unique within another field, in ${2 * PAIRS} pairs, on better-sqlite3`, function () {
    return guessed.call(this, 2 * PAIRS, true)
  })

  async function guessed(this: Context, numRuns: number, within: boolean) {
    this.timeout(0)
    const engine = engines.find(({ name }) => name === 'better-sqlite3') as Engine
    let guesses = 0
    await fc.assert(
      fc.asyncProperty(pairs(0, questionOn, within), async (pair) => {
        const other = inSecret(pair)
        const writes = [...claimsAt(pair, other), ...sequencesIn(pair, other)]
        const claims = writes.filter((write) => isDecidedAlike(pair, other, write))
        const questions = [...guessesAt(pair, other), ...claims]
        guesses += questions.length
        const [here, there] = await answersTo(pair, other, questions, engine, { looking: false })
        const place = () =>
          shown({
            ...pair,
            other,
            differing: questions.flatMap((question, at) =>
              shown(here[at]) === shown(there[at]) ? [] : [{ question, here: here[at], there: there[at] }],
            ),
          })
        about(place, () => expect(here).to.deep.equal(there))
      }),
      { numRuns, endOnFailure: stopsAtFirst, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
    )
    expect(guesses).to.be.greaterThan(5 * numRuns)
  }

  it('makes no difference in Korenveld, along any reference', async function () {
    this.timeout(0)
    const data = (await readData()) as Data
    const world = { rulebook: korenveld as unknown as World['rulebook'], data, attempts: [] }
    const { model } = world.rulebook
    for (const who of [callers.nobody, callers.ana, callers.ben] as Someone[]) {
      const isUnnoticed = unnoticedBy(world, who)
      let other = data
      let differing = 0
      for (const table of ['plots', 'rents', 'applications']) {
        const rows = data[table] ?? []
        const { key, fields } = model.tables[table] as (typeof model)['tables'][string]
        rows.forEach((row, at) => {
          // Whatever is not the key is another record's, where that changes nothing of what is seen.
          const next = rows[(at + 1) % rows.length] as Row
          const seen = new Oracle(world.rulebook, data, who, NOW).sees(table, row, 'list')
          for (const name of Object.keys(fields).filter((each) => !key.includes(each))) {
            const changedRow = { ...other[table]?.[at], [name]: next[name] }
            const secret = {
              ...other,
              [table]: (other[table] ?? []).map((each, place) => (place === at ? changedRow : each)),
            }
            if (seen?.includes(name) || row[name] === next[name] || !isUnnoticed(secret, table)) continue
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
          const scoped = createGuard({ rules: korenveld, store: engine.store, clock: () => NOW }).as(
            who as never,
          ) as unknown as AnyStore
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

  it('is not found by a condition on what leads to it, in Korenveld', async () => {
    const data = (await readData()) as Data
    const { model } = korenveld as unknown as World['rulebook']
    const store = (engines.find(({ name }) => name === 'better-sqlite3') as Engine).store
    await load({ name: 'better-sqlite3', store, close: async () => undefined }, model, data)
    const guard = createGuard({ rules: korenveld, store, clock: () => NOW })
    let asked = 0
    for (const who of [callers.nobody, callers.ana, callers.ben]) {
      const scoped = guard.as(who) as unknown as AnyStore
      const idsOf = async (table: string) =>
        ((await Promise.resolve(scoped['list']?.(table)).catch(() => [])) as Row[]).map((row) => row['id'])
      for (const table of Object.keys(model.tables)) {
        if ((await idsOf(table)).length === 0) continue
        for (const relation of [...parentsOf(model, table), ...childrenOf(model, table)]) {
          const seen = await idsOf(relation.table)
          const hidden = (data[relation.table] ?? []).map((row) => row['id']).filter((id) => !seen.includes(id))
          for (const id of hidden.filter((each) => each !== undefined).slice(0, 4)) {
            const where = (row: Asked) => {
              const leads = row[relation.name] as Asked[string]
              return relation.one ? leads['id']?.is(id) : leads.by(relation.to).some((each) => each['id']?.is(id))
            }
            expect(await scoped['exists']?.(table, { where }), `${table}.${relation.name} ${String(id)}`).to.equal(
              false,
            )
            asked += 1
          }
        }
      }
    }
    expect(asked).to.be.greaterThan(60)
  })
})

/** A record in a condition, of whatever table. */
interface Asked {
  readonly [name: string]: Asked & {
    is(value: unknown): unknown
    by(field: string): { some(where: (row: Asked) => unknown): unknown }
  }
}
