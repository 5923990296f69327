import { expect } from 'chai'
import fc from 'fast-check'
import {
  bytes,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  references,
  text,
  timestamp,
} from 'pachter'
import { adviseIndexes } from 'pachter/adopt'
import { type Fixture, openFixture } from 'pachter/check'
import { normalise } from 'pachter/condition'
import { expand } from 'pachter/rules'
import { type Dialect, isIndexed, mariadb, missingFor, postgresql, sqlite, sqlStore } from 'pachter/sql'
import { openEngines } from './support/engines.js'
import { worlds } from './support/worlds.js'

const model = defineModel({
  members: { id: integer().key(), name: text() },
  tools: {
    id: integer().key(),
    ownerId: references('members'),
    name: text(),
    price: integer(),
    lostAt: timestamp().optional(),
  },
  loans: { toolId: references('tools').key(), memberId: references('members').key() },
})
const rules = defineRules(model, defineCaller({ id: integer() }, { roles: ['warden'] }), {
  tools: ({ row, caller, role, table }) =>
    table
      .ties({
        owner: row.ownerId.is(caller.id),
        lender: row.loans.some((loan) => loan.memberId.is(caller.id)),
      })
      .grants({
        read: [
          { to: ['owner', 'lender'], when: row.lostAt.isMissing() },
          { to: role('warden'), fields: ['name'] },
        ],
      }),
})

/** Member 1 owns everything, member 2 a few, member 3 nothing; of each tool, member 4 has a loan. */
const TOOLS = 12_000
const tools = Array.from({ length: TOOLS }, (_, at) => ({
  id: at + 1,
  ownerId: at % 1_000 === 0 ? 2 : 1,
  name: `Tool ${at % 97}`,
  price: at % 89,
}))

describe('the form of a query', () => {
  let fixture: Fixture
  before(async () => {
    fixture = await openFixture(model, {
      members: [1, 2, 3, 4].map((id) => ({ id, name: `Member ${id}` })),
      tools,
      loans: tools.map(({ id }) => ({ toolId: id, memberId: 4 })),
    })
    const q = fixture.store.dialect.identifier
    await fixture.store.query(`CREATE INDEX owned ON tools (${q('ownerId')})`, [])
    await fixture.store.query(`CREATE INDEX lent ON loans (${q('memberId')})`, [])
  })
  after(() => fixture.close())

  it('follows what each caller reaches, and how much of it is wanted', async () => {
    const guard = createGuard({ rules, store: fixture.store })
    const formFor = async (id: number, options: object) => (await guard.as({ id }).plan('tools', options))?.form
    expect([await formFor(2, { limit: 50 }), await formFor(3, { limit: 50 })]).to.deep.equal(['gather', 'gather'])
    expect([await formFor(1, { limit: 50 }), await formFor(4, { limit: 50 })]).to.deep.equal(['walk', 'walk'])
    expect([await formFor(2, {}), await formFor(4, {})]).to.deep.equal(['gather', 'gather'])
    for (const [id, count] of [
      [1, TOOLS - 12],
      [2, 12],
      [3, 0],
      [4, TOOLS],
    ] as const)
      expect(await guard.as({ id }).count('tools')).to.equal(count)
  })

  it('follows the order and the conditions that an index has, and tells what is missing', async () => {
    const q = fixture.store.dialect.identifier
    const planFor = async (id: number, options: object) => {
      // What is found out of indexes stays for a while, with the guard.
      const guard = createGuard({ rules, store: { ...fixture.store } })
      const { form, missing } = (await guard.as({ id }).plan('tools', options)) ?? {}
      return [form, missing]
    }
    const byPrice = { orderBy: 'price', limit: 50 }
    const cheap = { where: (row: { price: { is(value: number): unknown } }) => row.price.is(5) }
    expect(await planFor(1, byPrice)).to.deep.equal(['gather', undefined])
    await fixture.store.query(`CREATE INDEX priced ON tools (${q('price')})`, [])
    expect(await planFor(1, byPrice)).to.deep.equal(['walk', undefined])
    expect(await planFor(1, cheap)).to.deep.equal(['walk', undefined])
    expect(await planFor(3, cheap)).to.deep.equal(['gather', undefined])
    for (const index of ['lent', 'loans_memberId']) await fixture.store.query(`DROP INDEX ${q(index)}`, [])
    expect((await planFor(4, {}))[1]).to.deep.equal(['loans.memberId'])
    await fixture.store.query(`CREATE INDEX lent ON loans (${q('memberId')})`, [])
  })

  /** What is sent for a page of tools, by price, to a caller. */
  const sent = async (dialect: Dialect, caller: object, method: 'list' | 'exists' = 'list') => {
    const texts: string[] = []
    const query = (statement: string) => (texts.push(statement), Promise.resolve({ rows: [], touched: 0 }))
    const store = sqlStore({ dialect, query, transaction: (work) => work({ query }) })
    const guard = createGuard({ rules, store })
    const mine = guard.as(caller as never)
    if (method === 'exists') await mine.exists('tools', { form: 'gather' })
    else await mine.list('tools', { orderBy: 'price', limit: 50, form: 'gather' })
    return texts.at(-1) as string
  }

  it('leaves a field bare for those to whom all of their records show it, so that its index serves', async () => {
    for (const dialect of [postgresql, sqlite, mariadb]) {
      expect(await sent(dialect, { id: 1 })).not.to.match(/CASE/)
      expect(await sent(dialect, { id: 1, roles: ['warden'] })).to.match(/ORDER BY \+?CASE WHEN/)
    }
  })

  it('asks for what is missing as indexes have it', async () => {
    for (const dialect of [postgresql, sqlite, mariadb])
      expect(await sent(dialect, { id: 1 })).to.match(/_0\.["`]lostAt["`] IS NULL/)
  })

  it('has SQLite sort what is gathered, and PostgreSQL find it before it sorts, or looks for one', async () => {
    expect(await sent(sqlite, { id: 1 })).to.match(/ORDER BY \+_0\."price", \+_0\."id" LIMIT/)
    expect(await sent(postgresql, { id: 1 }, 'exists')).to.match(
      /OFFSET 0\) AS _0 WHERE TRUE ORDER BY _0\."id" LIMIT 1/,
    )
    expect(await sent(postgresql, { id: 1 })).to.match(
      /OFFSET 0\) AS _0 WHERE TRUE ORDER BY _0\."price", _0\."id" LIMIT/,
    )
  })

  it('tells of all that is missing at once, whatever else a tie asks of the caller', () => {
    const some = (of: readonly string[]) => fc.sample(fc.subarray([...of]), 6)
    let told = 0
    for (const { rulebook } of fc.sample(worlds(0), 16)) {
      const { tables } = rulebook.model
      const fields = Object.keys(tables).flatMap((of) =>
        Object.keys(tables[of]?.fields ?? {}).map((name) => `${of}.${name}`),
      )
      const indexesOn = (built: readonly string[]) =>
        Object.fromEntries(
          Object.entries(tables).map(([of, table]) => [
            of,
            new Set(Object.keys(table.fields).filter((name) => built.includes(`${of}.${name}`))),
          ]),
        )
      for (const [table, { ties }] of Object.entries(rulebook.tables)) {
        for (const tie of Object.values(ties)) {
          const that = normalise(expand(rulebook, tie))
          const beside = normalise({ kind: 'all', of: [{ kind: 'signedIn' }, that] })
          for (const [at, there] of some(fields).entries()) {
            const unserved = new Set(some(fields)[at]?.filter((field) => !there.includes(field)))
            const missing = missingFor(that, table, indexesOn(there), unserved)
            const then = missingFor(that, table, indexesOn([...there, ...missing]), unserved)
            const place = JSON.stringify({ table, that, there, unserved: [...unserved], missing })
            expect(
              missing.filter((field) => there.includes(field) || unserved.has(field)),
              place,
            ).to.deep.equal([])
            expect(then, place).to.deep.equal([])
            expect(missingFor(beside, table, indexesOn(there), unserved), place).to.deep.equal(missing)
            const [alone, both] = [that, beside].map((each) => isIndexed(each, table, indexesOn(there)))
            expect(both, place).to.equal(alone)
            told += missing.length
          }
        }
      }
    }
    expect(told).to.be.greaterThan(20)
  })

  it('takes for an index what finds a value, and says how one is made of what is too long for it', async () => {
    const found = defineModel({ finds: { id: integer().key(), by: integer(), note: text(), photo: bytes() } })
    const finder = defineCaller({ id: integer(), note: text(), photo: bytes() })
    const by = defineRules(found, finder, {
      finds: ({ row, caller, table }) =>
        table
          .ties({ by: row.by.is(caller.id), note: row.note.is(caller.note), photo: row.photo.is(caller.photo) })
          .grants({ read: ['by', 'note', 'photo'] }),
    })
    const tables: Readonly<Record<string, readonly string[]>> = {
      PostgreSQL: [
        'CREATE TABLE finds (id int PRIMARY KEY, by int NOT NULL, note text NOT NULL, photo bytea NOT NULL)',
        'CREATE INDEX ON finds USING brin (by)',
        `CREATE INDEX ON finds USING gin (to_tsvector('simple', note))`,
      ],
      'better-sqlite3': [
        'CREATE TABLE finds (id INTEGER PRIMARY KEY, by INT NOT NULL, note TEXT COLLATE NOCASE NOT NULL, photo BLOB NOT NULL)',
        'CREATE INDEX noted ON finds (note)',
      ],
      MariaDB: [
        'CREATE TABLE finds (id INT PRIMARY KEY, `by` INT NOT NULL, note TEXT NOT NULL, photo LONGBLOB NOT NULL, FULLTEXT (note))',
      ],
    }
    for (const { name, store } of await openEngines()) {
      for (const each of tables[name] ?? []) await store.query(each, [])
      if (!tables[name]) continue
      const { missing } = await adviseIndexes({ ...store }, by)
      expect(
        missing.map(({ field }) => field),
        name,
      ).to.deep.equal(['finds.by', 'finds.note', 'finds.photo'])
      for (const { statement } of missing) await store.query(statement, [])
      expect((await adviseIndexes({ ...store }, by)).missing, name).to.deep.equal([])
      await store.query('DROP TABLE finds', [])
    }
  })
})
