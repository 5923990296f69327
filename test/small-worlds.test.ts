import { expect } from 'chai'
import { type Condition, defineModel, integer, references, type Rulebook } from 'pachter'
import { normalise, print } from 'pachter/condition'
import { lookupIn } from 'pachter/decide'
import { evaluator, evaluatorAsCode } from 'pachter/decide'
import { checkCaller, decidedFor, specialise } from 'pachter/rules'
import { NO_TRAITS, sourceStatement } from 'pachter/sql'
import { type Engine, load, openEngines } from './support/engines.js'
import { implies } from '../src/condition/implies.js'
import { Oracle } from './support/oracle.js'

/**
 * Small worlds hold most mistakes, and all of them is a stronger word than many: every world of two records, each with a
 * value or none, that refer to each other, to themselves, or to nothing; and every condition of so many parts. All worlds
 * stand in one table, each with keys of its own.
 */
const PARTS = Number(process.env['PACHTER_PARTS'] ?? 2)
/** Of the conditions of the most parts, every so many is taken. */
const EVERY = Number(process.env['PACHTER_EVERY'] ?? 1)

const model = defineModel({
  beds: { id: integer().key(), crop: integer().optional(), besideId: references('beds').optional() },
})
const NOW = new Date('2026-11-25T09:00:00.000Z')
const rulebook: Rulebook = {
  format: 'pachter-rulebook',
  version: 1,
  model,
  caller: {
    attributes: { id: { type: 'integer' }, crop: { type: 'integer', optional: true } },
    roles: [],
    implies: {},
    standings: {},
    channels: [],
  },
  tables: {},
}

const CROPS = [null, 1, 2]
/** To nothing, to itself, to the other. */
const BESIDE = [null, 0, 1]

const beds = CROPS.flatMap((first) =>
  CROPS.flatMap((second) =>
    BESIDE.flatMap((from) => BESIDE.map((to) => ({ crops: [first, second], beside: [from, to] }))),
  ),
).flatMap(({ crops, beside }, world) =>
  [0, 1].map((at) => {
    const to = beside[at] as number | null
    return {
      id: 10 * world + at,
      crop: crops[at] as number | null,
      besideId: to === null ? null : 10 * world + (to === 0 ? at : 1 - at),
    }
  }),
)

const field = (name: string, level = 0) => ({ kind: 'field', level, name }) as const
const own = { kind: 'caller', name: 'crop' } as const
const one = { kind: 'value', shape: { type: 'integer' }, value: 1 } as const
const compare = (how: 'is' | 'below' | 'atLeast', left: object, right: object) =>
  ({ kind: 'compare', how, left, right }) as Condition
const up = (where: Condition): Condition => ({
  kind: 'some',
  relation: 'beside',
  table: 'beds',
  from: field('besideId'),
  to: { level: 1, field: 'id' },
  one: true,
  where,
})
const down = (where: Condition): Condition =>
  ({ ...up(where), relation: 'beds', from: field('id'), to: { level: 1, field: 'besideId' }, one: false }) as Condition

const leaves: readonly Condition[] = [
  { kind: 'isSet', operand: field('crop') },
  compare('is', field('crop'), one),
  compare('is', field('crop'), own),
  compare('below', field('crop'), own),
  compare('is', field('crop'), field('besideId')),
  {
    kind: 'compare',
    how: 'in',
    left: field('crop'),
    right: { kind: 'value', shape: { type: 'list', item: 'integer' }, value: [2, 7] },
  },
  up({ kind: 'always' }),
  up(compare('is', field('crop', 1), one)),
  up(compare('atLeast', field('crop', 1), field('crop'))),
  up({ kind: 'not', of: compare('is', field('crop', 1), own) }),
  down({ kind: 'always' }),
  down({ kind: 'not', of: compare('is', field('crop', 1), one) }),
  down(compare('is', field('id', 1), field('id'))),
]
const literals = leaves.flatMap((leaf): Condition[] => [leaf, { kind: 'not', of: leaf }])

/** Every condition of exactly so many parts. */
function* conditions(parts: number): Generator<Condition> {
  if (parts === 1) return yield* literals
  for (const first of literals) {
    for (const rest of conditions(parts - 1)) {
      for (const kind of ['all', 'any'] as const) yield { kind, of: [first, rest] }
    }
  }
}

describe('of every two conditions', () => {
  it('one that is found to imply the other holds nowhere without it', () => {
    const caller = checkCaller(rulebook.caller, { id: 1, crop: 1 })
    const world = { caller, now: NOW, lookup: lookupIn({ beds }) }
    const all = [...conditions(1), ...conditions(2)].map((condition) => ({
      condition: normalise(condition),
      holds: evaluator(condition, world),
    }))
    let found = 0
    for (const first of all) {
      const where = beds.filter(first.holds)
      for (const second of all) {
        if (!implies(first.condition, second.condition)) continue
        found += 1
        expect(where.every(second.holds), `${print(first.condition)} implies ${print(second.condition)}`).to.equal(true)
      }
    }
    // Each itself, each (A and B) both, each A every (A or B): what comes for nothing is not all.
    expect(found).to.be.above(10_000)
  })
})

describe('what is decided by the caller alone', () => {
  it('is what is left where a condition is made out for that caller', () => {
    const said = { always: true, never: false }
    const found = new Set<unknown>()
    for (const who of [{ id: 1, crop: 1 }, { id: 1 }]) {
      const caller = checkCaller(rulebook.caller, who)
      for (const condition of [...conditions(1), ...conditions(2)].map((each) => normalise(each))) {
        const { kind } = specialise(condition, caller)
        const decided = decidedFor(condition, caller)
        expect(decided, print(condition)).to.equal(Object.hasOwn(said, kind) ? said[kind as 'never'] : undefined)
        found.add(decided)
      }
    }
    expect([...found]).to.have.members([true, false, undefined])
  })
})

describe('every small world', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
    for (const engine of engines) await load(engine, model, { beds })
  })

  it(`and every condition of up to ${PARTS} parts come out as the oracle has it, in memory and on every engine`, async function () {
    this.timeout(0)
    const callers = [{ id: 1, crop: 1 }, { id: 1 }]
    let asked = 0
    for (let parts = 1; parts <= PARTS; parts += 1) {
      let at = 0
      for (const condition of conditions(parts)) {
        if (parts === PARTS && (at += 1) % EVERY > 0) continue
        for (const who of callers) {
          const oracle = new Oracle(rulebook, { beds }, who, NOW)
          const caller = checkCaller(rulebook.caller, who)
          const foretold = beds.filter((bed) => oracle.is(condition, { at: [bed] })).map(({ id }) => id)
          const world = { caller, now: NOW, lookup: lookupIn({ beds }) }
          // Put together of functions, and as code.
          for (const meets of [evaluator(condition, world), evaluatorAsCode(condition, world)]) {
            expect(meets && beds.filter(meets).map(({ id }) => id), print(condition)).to.deep.equal(foretold)
          }
          for (const { name, store } of engines) {
            const form = (['walk', 'scan', 'gather'] as const)[asked % 3] as 'walk'
            const { text, bind } = sourceStatement(
              { rulebook, dialect: store.dialect, traits: NO_TRAITS, form },
              'beds',
              normalise(condition),
            )
            // Which records, by their number and what their keys add up to: squares tell apart what sums do not.
            const sum = `SELECT sum(1000000 + _0.id * _0.id) AS ${store.dialect.identifier('sum')} ${text}`
            const { rows } = await store.query(sum, bind({ caller, clock: () => NOW }))
            const wanted = foretold.reduce((total, id) => total + 1_000_000 + id * id, 0)
            expect(Number(rows[0]?.['sum'] ?? 0), `${name} ${form}: ${print(condition)}\n${sum}`).to.equal(wanted)
            asked += 1
          }
        }
      }
    }
    console.log(
      `      ${asked} questions about ${beds.length / 2} worlds, on ${engines.map(({ name }) => name).join(', ')}`,
    )
  })
})
