import { expect } from 'chai'
import {
  all,
  any,
  bigInteger,
  boolean,
  CallerError,
  type Condition,
  createGuard,
  type Data,
  decimal,
  decide,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  list,
  not,
  references,
  RuleError,
  type RuleContext,
  text,
  timestamp,
} from 'pachter'
import { type Engine, load, openEngines } from './support/engines.js'

const model = defineModel({
  crates: { name: text().key(), keeper: text().optional() },
  seeds: {
    id: integer().key(),
    crate: references('crates').optional(),
    label: text().optional(),
    email: text().optional(),
    ready: boolean().optional(),
    sown: timestamp().optional(),
    price: decimal(2).optional(),
    serial: bigInteger().optional(),
    tags: list(text()).optional(),
  },
})
const caller = defineCaller({
  id: integer(),
  email: text(),
  serial: bigInteger().optional(),
  tags: list(text()).optional(),
})
type Seeds = RuleContext<typeof model, typeof caller, 'seeds'>

const NASTY = [
  `'; DROP TABLE seeds; --`,
  '"',
  '`',
  '\\',
  "\\' OR 1=1",
  '$1',
  '?',
  '%',
  '__proto__',
  '{{x}}',
  '🌱'.repeat(500),
]
const EMAILS = [
  'ana@korenveld.example',
  'Ana@korenveld.example',
  'ana@korenveld.example ',
  '0',
  'e\u0301',
  'é',
  ...NASTY,
]
const NFD = EMAILS.indexOf('e\u0301') + 1
const BIG = 2n ** 53n

const data: Data = {
  crates: [
    { name: 'north', keeper: 'ana@korenveld.example' },
    { name: 'North', keeper: null },
  ],
  seeds: [
    ...EMAILS.map((email, at) => ({ id: at + 1, email })),
    {
      id: 101,
      crate: 'north',
      ready: true,
      sown: new Date('2026-03-29T01:30:00.123Z'),
      price: '0.10',
      serial: BIG,
      tags: [],
    },
    {
      id: 102,
      crate: 'North',
      ready: false,
      sown: new Date('2026-03-29T01:30:00.124Z'),
      price: '-12.50',
      serial: BIG + 1n,
      tags: ['a', 'A '],
    },
    { id: 103, label: 'no more' },
  ],
}

const ME = { id: 1, email: 'ana@korenveld.example', serial: BIG + 1n, tags: ['A '] }

describe('what databases are known to see differently', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
    for (const engine of engines) await load(engine, model, data)
  })

  /** The ids of the seeds a condition lets through, the same in memory and on every engine. */
  async function seen(build: (context: Seeds) => Condition, as: object = ME): Promise<readonly number[]> {
    const rules = defineRules(model, caller, {
      seeds: (context) => context.table.ties({ tie: build(context) }).grants({ read: ['tie'] }),
    })
    const inMemory = (data['seeds'] ?? [])
      .filter((record) => decide(rules, { caller: as, action: 'get', table: 'seeds', record, data }).allowed)
      .map(({ id }) => id as number)
    for (const { name, store } of engines) {
      const rows = await createGuard({ rules, store })
        .as(as as typeof ME)
        .list('seeds')
      expect(
        rows.map(({ id }) => id),
        name,
      ).to.deep.equal(inMemory)
      for (const row of rows) {
        const original = data['seeds']?.find(({ id }) => id === row.id)
        const given = Object.fromEntries(Object.entries(row).filter(([, value]) => value !== null))
        expect(given, name).to.deep.equal(original)
      }
    }
    return inMemory
  }

  it('text: case, trailing blanks, text against number, Unicode normal forms, and whatever looks like SQL', async () => {
    expect(await seen(({ row, caller: me }) => row.email.is(me.email))).to.deep.equal([1])
    expect(await seen(({ row }) => row.email.is('0'))).to.deep.equal([4])
    expect(await seen(({ row }) => row.email.is('e\u0301'))).to.deep.equal([NFD])
    for (const email of NASTY) {
      const at = EMAILS.indexOf(email) + 1
      expect(await seen(({ row, caller: me }) => row.email.is(me.email), { ...ME, email })).to.deep.equal([at])
      expect(await seen(({ row }) => row.email.oneOf([email, 'none']))).to.deep.equal([at])
      expect(await seen(({ row }) => row.email.startsWith(email))).to.include(at)
    }
  })

  it('text in columns without regard to case, around subqueries: no record gets the answer of another', async () => {
    const cased = defineModel({
      shelves: { id: text().key(), open: boolean(), keeperId: integer() },
      jars: { id: integer().key(), shelfId: references('shelves'), code: text(), labels: list(text()) },
    })
    const codes = ['x', 'X', 'x ']
    const jars = codes.map((code, at) => ({ id: at + 1, shelfId: ['a', 'A', 'a '][at], code, labels: [code] }))
    const stored: Data = {
      shelves: jars.map(({ shelfId, id }) => ({ id: shelfId, open: id === 1, keeperId: 4 - id })),
      jars,
    }
    type Jars = RuleContext<typeof cased, typeof caller, 'jars'>
    const ties: ((context: Jars) => Condition)[] = [
      ({ row }) => row.shelf.open.is(true),
      ({ row }) => row.code.oneOf(['x', 'none']),
      ({ row }) => row.labels.includes('x'),
      ({ row }) => row.labels.includesAny(['x']),
      ({ row, caller: me }) => row.shelf.jars.some((jar) => all(jar.code.is(row.code), jar.id.is(me.id))),
      ({ row, caller: me }) =>
        any(
          row.id.is(9),
          row.shelf.jars.some((jar) => jar.id.is(me.id)),
        ),
      // Of the last alone: what was found for the others comes first.
      ({ row, caller: me }) => any(row.id.is(9), row.shelf.keeperId.is(me.id)),
    ]
    for (const engine of engines) {
      const store = { ...engine.store }
      await load({ ...engine, store }, cased, stored, true)
      for (const [at, build] of ties.entries()) {
        for (const isNot of [false, true]) {
          const holds = jars.map(({ id }) => (id === (at < 6 ? 1 : 3)) !== isNot)
          const as = (action: 'read' | 'update') => {
            const rules = defineRules(cased, caller, {
              shelves: ({ anyone, table }) => table.grants({ read: [anyone] }),
              jars: (context) =>
                context.table
                  .ties({ tie: isNot ? not(build(context)) : build(context) })
                  .grants({ read: [context.anyone], update: ['tie'], ...(action === 'read' && { read: ['tie'] }) }),
            })
            return createGuard({ rules, store }).as({ ...ME, id: 1 })
          }
          for (const form of ['walk', 'scan', 'gather'] as const) {
            const place = `${engine.name}, ${at}, ${form}`
            const rows = await as('update').list('jars', { access: true, form, with: { shelf: true } })
            const may = rows.map(({ $access }) => $access.may.update)
            expect(may, place).to.deep.equal(holds)
            expect(
              rows.map(({ shelf }) => shelf?.id),
              place,
            ).to.deep.equal(['a', 'A', 'a '])
            const ids = [1, 2, 3].filter((_, place) => holds[place])
            const found = await as('read').list('jars', { form })
            expect(
              found.map(({ id }) => id),
              place,
            ).to.deep.equal(ids)
            const { text: condition, values } = as('read').filter('jars', 'read', { form })
            const { rows: own } = await store.query(`SELECT _0.id FROM jars AS _0 WHERE ${condition} ORDER BY 1`, [
              ...values,
            ])
            expect(
              own.map(({ id }) => Number(id)),
              place,
            ).to.deep.equal(ids)
          }
        }
      }
    }
    for (const engine of engines) await load(engine, model, data)
  })

  it('text with NUL or half a character reaches no engine', async () => {
    for (const email of ['a\0b', '\ud83c']) {
      const error = await seen(({ row, caller: me }) => row.email.is(me.email), { ...ME, email }).catch(
        (each: Error) => each,
      )
      expect(error).to.be.instanceOf(CallerError)
      expect(() =>
        defineRules(model, caller, { seeds: ({ row, table }) => table.ties({ t: row.email.is(email) }) }),
      ).to.throw(RuleError)
    }
  })

  it('text keys: north is not North', async () => {
    expect(await seen(({ row, caller: me }) => row.crateRecord.keeper.is(me.email))).to.deep.equal([101])
  })

  it('missing values: a comparison is false, its negation true', async () => {
    const ids = (data['seeds'] ?? []).map(({ id }) => id)
    expect(await seen(({ row }) => not(row.label.is('no more')))).to.deep.equal(ids.filter((id) => id !== 103))
    expect(await seen(({ row }) => not(row.crateRecord.keeper.is('x')))).to.deep.equal(ids)
    expect(await seen(({ row }) => not(row.sown.above(new Date(0))))).not.to.include(101)
    const nobody = { id: 1, email: '' }
    expect(await seen(({ row, caller: me }) => not(row.serial.is(me.serial)), nobody)).to.deep.equal(ids)
  })

  it('booleans, timestamps to the millisecond, decimals, and integers beyond 2^53', async () => {
    expect(await seen(({ row }) => row.ready.is(true))).to.deep.equal([101])
    expect(await seen(({ row }) => row.ready.isNot(true)))
      .to.include(102)
      .and.include(103)
    const moment = new Date('2026-03-29T03:30:00.123+02:00')
    expect(await seen(({ row }) => row.sown.is(moment))).to.deep.equal([101])
    expect(await seen(({ row }) => row.sown.above(moment))).to.deep.equal([102])
    expect(await seen(({ row }) => row.price.between('-20.00', '0.09'))).to.deep.equal([102])
    expect(await seen(({ row, caller: me }) => row.serial.is(me.serial))).to.deep.equal([102])
    expect(await seen(({ row }) => row.serial.below(BIG + 1n))).to.deep.equal([101])
  })

  it('lists, empty ones and missing ones', async () => {
    expect(await seen(({ row }) => row.tags.includes('a'))).to.deep.equal([102])
    expect(await seen(({ row }) => row.tags.includes('a '))).to.deep.equal([])
    expect(await seen(({ row, caller: me }) => row.tags.includesAny(me.tags))).to.deep.equal([102])
    expect(await seen(({ row }) => row.tags.includesAny([]))).to.deep.equal([])
    expect(await seen(({ row }) => row.tags.includesAll([]))).to.deep.equal([101, 102])
    expect(await seen(({ row }) => row.id.oneOf([]))).to.deep.equal([])
  })

  it('long and deep conditions are exact, deeper ones a clear error', async () => {
    const many = Array.from({ length: 5000 }, (_, at) => at + 100)
    expect(await seen(({ row }) => row.id.oneOf(many))).to.deep.equal([101, 102, 103])
    const nested = (depth: number, { row }: Seeds): Condition =>
      depth === 0 ? row.id.is(101) : (depth % 2 ? any : all)(nested(depth - 1, { row } as Seeds), row.id.is(101))
    expect(await seen((context) => nested(50, context))).to.deep.equal([101])
    expect(() =>
      defineRules(model, caller, { seeds: (context) => context.table.ties({ deep: nested(5000, context) }) }),
    ).to.throw(RuleError, /deeper than 64 levels/)
  })
})
