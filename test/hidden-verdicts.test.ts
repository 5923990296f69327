import { expect } from 'chai'
import fc from 'fast-check'
import { type Data, decide, InputError } from 'pachter'
import { refusal } from 'pachter/decide'
import { fieldOf } from 'pachter/model'
import { idsFor, strangerFor } from './support/conditions.js'
import { inSecret, isDecidedAlike, type Pair, pairs } from './support/pairs.js'
import { attemptsIn, type Question } from './support/questions.js'
import { about, shown } from './support/shown.js'
import { NOW } from './support/worlds.js'

type Row = Readonly<Record<string, unknown>>

/** How many pairs of databases are drawn. */
const PAIRS = Number(process.env['PACHTER_VERDICTS'] ?? 300)

const { PACHTER_SEED = process.env['CI'] ? '20261127' : undefined } = process.env

/** What can be tried by who knows what stands in either database: every record, and each of its fields by itself. */
function triesAt({ world, others }: Pair, other: Data): readonly Question[] {
  const { model, tables } = world.rulebook
  return Object.keys(tables).flatMap((table) => {
    const id = fieldOf(model, table, 'id')
    const guessed = others[table] ?? []
    const create = guessed.map((row) => [{ ...row, id: strangerFor(id) }])
    const change = idsFor(id).flatMap((key, at) => {
      const found = [world.data, other].flatMap((data) => (data[table] ?? []).filter((row) => row['id'] === key))
      const whole = guessed[at % guessed.length] as Row
      const sent = [...found, whole].flatMap((row) => singly(withoutId(row)))
      return [{}, withoutId(whole), ...new Map(sent.map((each) => [shown(each), each])).values()].map(
        (values) => [key, values] as const,
      )
    })
    const asked = (method: string, all: readonly (readonly unknown[])[]) =>
      all.map((given): Question => ({ method, table, given }))
    return [
      ...asked('create', create),
      ...asked('update', change),
      ...asked(
        'delete',
        idsFor(id).map((key) => [key]),
      ),
      ...asked(
        'act',
        change.map((given) => ['settle', ...given]),
      ),
    ]
  })
}

const withoutId = ({ id: _, ...row }: Row): Row => row

const singly = (row: Row): readonly Row[] => Object.entries(row).map(([name, value]) => ({ [name]: value }))

/** All that a caller is told of what would come of a write. */
function told({ world: { rulebook }, who }: Pair, data: Data, question: Question): readonly unknown[] {
  return attemptsIn(question).map(({ action, key, values }) => {
    const { table } = question
    const record = action === 'create' ? undefined : data[table]?.find(({ id }) => id === key)
    const given = action === 'delete' ? {} : { values }
    try {
      const asked = { caller: who, table, action, data, now: NOW, ...(record && { record }), ...given }
      const verdict = decide(rulebook, asked)
      if (verdict.allowed) return 'allowed'
      const { name, status, message, ...more } = refusal(verdict)
      return { name, status, message, ...more }
    } catch (error) {
      if (error instanceof InputError) return { name: error.name, message: error.message, fields: error.fields }
      throw error
    }
  })
}

// Memory is held to every database by `engines.test.ts`; here, it is quick to ask.
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
})
