import { expect } from 'chai'
import fc from 'fast-check'
import { ConflictError, createGuard, type Data, decide, InputError, RefusedError, type Rules } from 'pachter'
import { refusal } from 'pachter/decide'
import { fieldOf } from 'pachter/model'
import { type Engine, load, openEngines, undoable } from './support/engines.js'
import { distinct } from './support/guesses.js'
import { givable } from './support/filled.js'
import { isAt, keysFor, strangerTo, withKey, withoutKey } from './support/keys.js'
import { inSecret, isDecidedAlike, NO_FIELD, type Pair, pairs } from './support/pairs.js'
import { attemptsIn, type Question } from './support/questions.js'
import { about, shown } from './support/shown.js'
import { isFree, NOW } from './support/worlds.js'

type Row = Readonly<Record<string, unknown>>

/** How many pairs of databases are drawn. */
const PAIRS = Number(process.env['PACHTER_VERDICTS'] ?? 220)

const { PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

/** What can be tried by who knows what stands in either database: every record, and each of its fields by itself. */
function triesAt({ world, others }: Pair, other: Data): readonly Question[] {
  const { model, tables } = world.rulebook
  return Object.keys(tables).flatMap((table) => {
    const guessed = others[table] ?? []
    const bare = (row: Row) => givable(model, table, withoutKey(model, table, row))
    const create = guessed
      .map((row) => ({ ...givable(model, table, row), ...withKey(model, table, strangerTo(model, table, row)) }))
      .flatMap((row) => [[row], [amiss(row)]])
    const change = keysFor(model, table).flatMap((key, at) => {
      const found = [world.data, other].flatMap((data) =>
        (data[table] ?? []).filter((row) => isAt(model, table, row, key)),
      )
      const whole = guessed[at % guessed.length] as Row
      // By itself and beside another, since what changes nothing at all is not written.
      const [beside = {}] = singly(bare(whole)).filter((each) =>
        Object.keys(each).every((name) => isFree(fieldOf(model, table, name))),
      )
      const alone = [...found, whole].flatMap((row) => singly(bare(row)))
      const sent = [...alone, ...alone.map((each) => ({ ...beside, ...each }))]
      return [{}, bare(whole), ...distinct(sent)].map((values) => [key, values] as const)
    })
    const wrong = change.map(([key, values]) => [key, amiss(values)]).filter((_, at) => at % 3 === 0)
    const asked = (method: string, all: readonly (readonly unknown[])[]) =>
      all.map((given): Question => ({ method, table, given }))
    return [
      ...asked('create', create),
      ...asked('update', [...change, ...wrong]),
      ...asked(
        'delete',
        keysFor(model, table).map((key) => [key]),
      ),
      ...asked(
        'act',
        change.map((given) => ['settle', ...given]),
      ),
    ]
  })
}

/** Values that are refused in any case. */
const amiss = (values: Row): Row => ({ ...values, [NO_FIELD]: 1 })

const singly = (row: Row): readonly Row[] => Object.entries(row).map(([name, value]) => ({ [name]: value }))

/** All that a caller is told of what would come of a write; from where it was thrown is asked of none, and takes a tenth of the time. */
const told = (...asked: Parameters<typeof toldFrom>) => {
  const { stackTraceLimit } = Error
  Error.stackTraceLimit = 0
  try {
    return toldFrom(...asked)
  } finally {
    Error.stackTraceLimit = stackTraceLimit
  }
}

const toldFrom = ({ world: { rulebook }, who }: Pair, data: Data, question: Question): readonly unknown[] =>
  attemptsIn(rulebook.model, question).map(({ action, key, values }) => {
    const { table } = question
    const record = action === 'create' ? undefined : data[table]?.find((row) => isAt(rulebook.model, table, row, key))
    const given = action === 'delete' ? {} : { values }
    try {
      const asked = { caller: who, table, action, data, now: NOW, ...(record && { record }), ...given }
      const verdict = decide(rulebook, asked)
      return verdict.allowed ? 'allowed' : toldBy(refusal(verdict))
    } catch (error) {
      return toldBy(error)
    }
  })

function toldBy(error: unknown): unknown {
  // Memory does not know what is unique. What keeps changing though nobody else writes is what the two disagree on.
  if (error instanceof ConflictError && !error.message.includes('kept changing')) return 'allowed'
  if (!(error instanceof RefusedError) && !(error instanceof InputError)) throw error
  const { name, status, message, ...more } = error
  return { name, status, message, ...more }
}

describe('what a verdict tells', () => {
  it(`is the same whatever is hidden, in ${PAIRS} pairs of databases`, function () {
    this.timeout(0)
    const counts = { tries: 0, messages: 0, decided: 0 }
    fc.assert(
      fc.property(pairs(0), (pair) => {
        const other = inSecret(pair)
        for (const question of triesAt(pair, other)) {
          const [here, there] = [pair.world.data, other].map((data) => shown(told(pair, data, question)))
          counts.tries += 1
          if (here?.includes('Denied')) counts.messages += 1
          if (here === there) continue
          // What the rules themselves make of what is hidden is theirs to tell.
          counts.decided += 1
          const place = () => shown({ ...pair, other, questions: [question] })
          if (isDecidedAlike(pair, other, question)) about(place, () => expect(here).to.equal(there))
        }
      }),
      { numRuns: PAIRS, endOnFailure: true, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
    )
    console.log(`      ${counts.tries} tries, ${counts.messages} told a rule's message; ${counts.decided} left out`)
    expect(counts.messages).to.be.greaterThan(PAIRS)
  })

  it(`is what a database tells, in ${Math.ceil(PAIRS / 10)} of them, on better-sqlite3`, async function () {
    this.timeout(0)
    const engine = (await openEngines()).find(({ name }) => name === 'better-sqlite3') as Engine
    let tries = 0
    await fc.assert(
      fc.asyncProperty(pairs(0), async (pair) => {
        const { world, who, others } = pair
        await load(engine, world.rulebook.model, world.data)
        const { store: switched, undone } = undoable(engine.store)
        const guard = createGuard({ rules: world.rulebook as Rules<never, never>, store: switched, clock: () => NOW })
        const scoped = guard.as(who as never) as unknown as Record<string, (...given: unknown[]) => Promise<unknown>>
        for (const question of triesAt(pair, others)) {
          const { method, table, given } = question
          const write = async () => scoped[method]?.(table, ...given)
          const here = await undone(() => write().then(() => 'allowed', toldBy))
          tries += 1
          const place = () => shown({ ...pair, other: world.data, questions: [question] })
          about(place, () => expect(shown([here])).to.equal(shown(told(pair, world.data, question))))
        }
      }),
      { numRuns: Math.ceil(PAIRS / 10), endOnFailure: true, ...(PACHTER_SEED && { seed: Number(PACHTER_SEED) }) },
    )
    expect(tries).to.be.greaterThan(10 * PAIRS)
  })
})
