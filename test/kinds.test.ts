import { expect } from 'chai'
import {
  all,
  bigInteger,
  bytes,
  choice,
  type Condition,
  createGuard,
  date,
  decide,
  defineCaller,
  defineModel,
  defineRules,
  float,
  integer,
  json,
  list,
  ModelError,
  references,
  type Row,
  text,
  time,
  timestamp,
  uuid,
} from 'pachter'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

const model = defineModel({
  plots: {
    id: uuid().key().generated(),
    number: integer(),
    soil: float().optional(),
    dug: date().optional(),
    shape: json<{ readonly corners: readonly number[] } | string | readonly string[]>().optional(),
    photo: bytes().optional(),
    beds: list(uuid()).optional(),
    opens: time().optional(),
    taps: list(bigInteger()).optional(),
  },
})

const rules = defineRules(model, defineCaller({ id: uuid() }), {
  plots: ({ row, caller, anyone, table }) =>
    table
      .ties({
        acid: row.soil.below(6.5),
        high: row.soil.above(0),
        old: row.dug.below('2026-01-01'),
        drawn: row.shape.isSet(),
        mine: row.beds.includes(caller.id),
        same: row.photo.is(Uint8Array.from([0, 255])),
        early: row.opens.atMost('08:00:00'),
        tapped: row.taps.includes(2n ** 53n + 1n),
      })
      .grants({
        read: [anyone, 'acid', 'high', 'old', 'drawn', 'mine', 'same', 'early', 'tapped'],
        create: [anyone],
        update: [
          { to: anyone, fields: ['number', 'soil', 'dug', 'photo'] },
          { to: 'mine', fields: ['shape'] },
        ],
      }),
})

const ID = '0f0f0f0f-1111-4eef-8abc-0123456789ab'
const BED = 'a0000000-0000-7000-8000-00000000000a'

const whole = {
  number: 1,
  soil: 0.1 + 0.2,
  dug: '2025-12-31',
  shape: { corners: [1.5, 1e300] },
  photo: Uint8Array.from([0, 255]),
  beds: [BED],
  opens: '08:00:00',
  taps: [2n ** 53n + 1n, -(2n ** 63n)],
} as const

/** The ties that hold of a record, as the database and memory see them. */
async function tiesOf({ store }: Pick<Engine, 'store'>, id: string): Promise<readonly string[]> {
  const guard = createGuard({ rules, store }).as({ id: BED })
  const { $access, ...record } = await guard.get('plots', id, { access: true })
  const { ties } = $access as unknown as { readonly ties: readonly string[] }
  const inMemory = (tie: string) =>
    decide({ ...rules, tables: { plots: { ...rules.tables['plots'], grants: { read: [{ to: [tie] }] } } } } as never, {
      caller: { id: BED },
      action: 'get',
      table: 'plots',
      record,
      data: { plots: [record] },
    }).allowed
  expect(ties).to.deep.equal(Object.keys(rules.tables['plots']?.ties ?? {}).filter(inMemory))
  return ties
}

describe('the types of real tables', () => {
  it(`come back as they went in, on ${engineNames.join(', ')}`, async () => {
    for (const engine of await openEngines()) {
      await load(engine, model, { plots: [] })
      const guard = createGuard({ rules, store: engine.store }).as({ id: BED })
      const made = await guard.create('plots', whole)
      expect(made.id, engine.name).to.match(/^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/)
      expect(made, engine.name).to.deep.equal({ ...whole, id: made.id })
      // What hands records on, to a page for one, may take nothing but plain objects.
      for (const record of [made, ...(await guard.list('plots')), await guard.get('plots', made.id)])
        expect(Object.getPrototypeOf(record), engine.name).to.equal(Object.prototype)
      const all = ['acid', 'high', 'old', 'drawn', 'mine', 'same', 'early', 'tapped']
      expect(await tiesOf(engine, made.id), engine.name).to.deep.equal(all)
      const several = await guard.createMany('plots', [
        { number: 2, shape: 'a text', soil: -0 },
        { number: 3, shape: ['a', 'list'], soil: 5e-324 },
      ])
      expect(
        several.map(({ shape, soil }) => [shape, soil]),
        engine.name,
      ).to.deep.equal([
        ['a text', 0],
        [['a', 'list'], 5e-324],
      ])
      expect(Object.is(several[0]?.soil, -0)).to.equal(false)
      // A form that sends all back: what is equal is no change, but for a document, which is not looked into.
      const { number, soil, dug } = whole
      const equal = { number, soil, dug, photo: Uint8Array.from(whole.photo) }
      expect(await guard.update('plots', made.id, equal), engine.name).to.deep.include({ number: 1 })
      const other = createGuard({ rules, store: engine.store }).as({ id: ID })
      const refused = await refusalOf(other.update('plots', made.id, { shape: { corners: [1.5, 1e300] } }))
      expect(refused.message, engine.name).to.match(/shape may not|You may not set shape/)
      const bySoil = await guard.list('plots', { orderBy: ['soil descending'], fields: ['number'], limit: 2 })
      expect(
        bySoil.map(({ number }) => number),
        engine.name,
      ).to.deep.equal([1, 3])
    }
  })

  it(`count as missing where they are no values, on ${engineNames.join(', ')}`, async () => {
    for (const engine of await openEngines()) {
      const { store } = engine
      await load(engine, model, { plots: [{ ...whole, id: ID }] })
      const q = store.dialect.identifier
      await store.query(`UPDATE ${q('plots')} SET ${q('shape')} = 'null'`, [])
      if (store.dialect.name === 'postgresql') await store.query(`UPDATE "plots" SET "soil" = 'NaN'`, [])
      else await store.query(`UPDATE ${q('plots')} SET ${q('soil')} = NULL`, [])
      const found = await createGuard({ rules, store }).as({ id: ID }).get('plots', ID)
      expect(found, engine.name).to.deep.include({ shape: null, soil: null })
      expect(await tiesOf(engine, ID), engine.name).to.deep.equal(['old', 'mine', 'same', 'early', 'tapped'])
    }
  })

  it('are refused where they are none, and where nothing could be told of them', async () => {
    const [engine] = (await openEngines()) as readonly [Engine]
    await load(engine, model, { plots: [] })
    const guard = createGuard({ rules, store: engine.store }).as({ id: BED })
    const deep = Array.from({ length: 70 }).reduce<unknown>((inner) => [inner], 0)
    const wrong: [string, unknown][] = [
      ['id', ID.toUpperCase()],
      ['dug', '2026-02-30'],
      ['dug', '2026-2-3'],
      ['dug', new Date()],
      ['opens', '24:00:00'],
      ['opens', '8:00'],
      ['taps', [1]],
      ['soil', NaN],
      ['soil', Infinity],
      ['soil', '1'],
      ['photo', [1, 2]],
      ['beds', ['x']],
      ['shape', { a: undefined }],
      ['shape', { a: 'NUL \0' }],
      ['shape', { at: new Date() }],
      ['shape', { n: 1n }],
      ['shape', deep],
      ['shape', JSON.parse('{"__proto__": 1}')],
    ]
    for (const [field, value] of wrong) {
      const refused = await refusalOf(guard.create('plots', { ...whole, [field]: value } as never))
      expect((refused as unknown as { fields: object }).fields, `${field} ${String(value)}`).to.have.property(field)
    }
    expect(() => defineModel({ one: { id: json().key() } } as never)).to.throw(ModelError, /json, which cannot be part/)
    expect(() => defineModel({ one: { id: text().key(), a: float().unique() } })).to.throw(
      ModelError,
      /float, .* unique/,
    )
    for (const [within, problem] of [
      [['nome'], /one\.a is unique within "nome", which one does not have; there is id, a, b/],
      [['a'], /one\.a is unique within other fields, each once/],
      [['b'], /one\.b is of type float, which cannot be unique/],
    ] as const)
      expect(() => defineModel({ one: { id: text().key(), a: text().unique(...within), b: float() } })).to.throw(
        ModelError,
        problem,
      )
    expect(() => defineModel({ one: { id: date().key().generated() } })).to.throw(ModelError, /whole number or a uuid/)
    const sorted = await refusalOf(guard.list('plots', { orderBy: ['shape'] }))
    expect(sorted.message).to.match(/values of type json have no order/)
    const where = (row: { readonly shape: unknown }) => (row.shape as { is(other: unknown): never }).is('a')
    expect((await refusalOf(guard.list('plots', { where: where as never }))).message).to.match(/looks into a document/)
  })

  it('are those of columns that have types of their own: words, padded, without regard to case, without a zone', async () => {
    const own = defineModel({
      visits: {
        code: text().key(),
        email: text(),
        mood: choice('sad', 'glad', 'Glad'),
        at: timestamp(),
      },
    })
    const visits = defineRules(own, defineCaller({ id: integer() }), {
      visits: ({ row, anyone, table }) =>
        table.ties({ glad: row.mood.is('glad') }).grants({ read: [anyone], create: [anyone], update: ['glad'] }),
    })
    const at = new Date('2026-03-29T01:30:00.123Z')
    for (const { name, store } of (await openEngines()).filter(({ store: { dialect } }) => dialect.name !== 'sqlite')) {
      const isPostgresql = name === 'PostgreSQL'
      const isMariadb = name === 'MariaDB'
      const run = async (...statements: string[]) => {
        for (const each of statements) await store.query(each, [])
      }
      await run('DROP TABLE IF EXISTS visits')
      if (isPostgresql) await run('CREATE EXTENSION IF NOT EXISTS citext')
      if (!isMariadb) await run('DROP TYPE IF EXISTS mood', `CREATE TYPE mood AS ENUM ('sad', 'glad', 'Glad')`)
      await run(
        isMariadb
          ? `CREATE TABLE visits (code CHAR(6) PRIMARY KEY, email VARCHAR(90) COLLATE utf8mb4_general_ci,
              mood ENUM('sad', 'glad', 'Glad') COLLATE utf8mb4_bin, at DATETIME(6)) CHARACTER SET utf8mb4`
          : `CREATE TABLE visits (code char(6) PRIMARY KEY, email ${isPostgresql ? 'citext' : 'text'}, mood mood, at timestamp)`,
      )
      // What a store has found out of its columns stays.
      const guard = createGuard({ rules: visits, store: { ...store } }).as({ id: 1 })
      const one = { code: 'ab', email: 'ana@x', mood: 'glad', at } as const
      expect(await guard.create('visits', one), name).to.deep.equal(one)
      await guard.createMany('visits', [
        { ...one, code: 'b', mood: 'Glad' },
        { ...one, code: 'c', mood: 'sad', email: 'ANA@X' },
      ])
      expect(await guard.get('visits', 'ab'), name).to.deep.equal(one)
      expect((await refusalOf(guard.get('visits', 'ab '))).status, name).to.equal(404)
      const found = async (where: (row: Row<typeof own, 'visits'>) => Condition) =>
        (await guard.list('visits', { where })).map(({ code }) => code)
      expect(await found((row) => row.email.is('ana@x')), name).to.deep.equal(['ab', 'b'])
      expect(await found((row) => row.mood.oneOf(['glad', 'sad'])), name).to.deep.equal(['ab', 'c'])
      expect(await found((row) => row.at.is(at)), name).to.deep.equal(['ab', 'b', 'c'])
      expect((await guard.update('visits', 'ab', { mood: 'glad', email: 'x' })).email, name).to.equal('x')
      expect((await refusalOf(guard.update('visits', 'b', { mood: 'sad' }))).status, name).to.equal(403)
      // Page by page, in whatever order the database has.
      const paged: string[] = []
      for (let after: object | undefined; ;) {
        const [next] = await guard.list('visits', { orderBy: ['mood'], limit: 1, ...(after && { after }) } as never)
        if (!next) break
        paged.push((next as { code: string }).code)
        after = next
      }
      expect(paged.sort(), name).to.deep.equal(['ab', 'b', 'c'])
      if (!isPostgresql) continue
      await run(
        `INSERT INTO visits SELECT 'n' || n, 'n' || n, 'sad', now() FROM generate_series(1, 5000) n`,
        'CREATE INDEX ON visits (email)',
        'ANALYZE visits',
      )
      const planned = await guard.plan('visits', { where: (row) => row.code.is('n7') })
      const explained = await store.query(`EXPLAIN ${planned?.text}`, [...(planned?.values ?? [])])
      expect(JSON.stringify(explained.rows)).to.match(/Index/)
    }
  })

  it('tell keys apart that end in blanks, whatever a column compares them by', async function () {
    const engine = (await openEngines()).find(({ name }) => name === 'MariaDB')
    if (!engine) return this.skip()
    const own = defineModel({
      tags: { code: text().key(), by: integer().optional() },
      marks: { id: integer().key(), tag: references('tags') },
    })
    const tags = defineRules(own, defineCaller({ id: integer() }), {
      tags: ({ row, caller, table }) =>
        table
          .ties({ mine: row.by.is(caller.id), marked: row.marks.some(() => all()) })
          .grants({ read: ['mine', 'marked'] }),
    })
    const key = 'VARCHAR(9) COLLATE utf8mb4_general_nopad_ci'
    for (const statement of [
      'DROP TABLE IF EXISTS tags, marks',
      `CREATE TABLE tags (code ${key} PRIMARY KEY, \`by\` BIGINT) CHARACTER SET utf8mb4`,
      `CREATE TABLE marks (id BIGINT PRIMARY KEY, tag ${key}, note TEXT, remark TEXT, more TEXT) CHARACTER SET utf8mb4`,
      `INSERT INTO tags VALUES ('a', 1), ('a ', 2), ('b', 1)`,
      `INSERT INTO marks (id, tag) VALUES (1, 'a '), (2, 'b')`,
    ]) {
      await engine.store.query(statement, [])
    }
    const guard = createGuard({ rules: tags, store: { ...engine.store } }).as({ id: 1 })
    // Before anything is known of the columns, and after.
    const view = guard.view('tags')
    for (const form of ['gather', 'scan', 'walk'] as const) {
      const found = await guard.list('tags', { form, orderBy: ['code'] })
      expect(
        found.map(({ code }) => code),
        form,
      ).to.deep.equal(['a', 'a ', 'b'])
    }
    for (const { text: from, values } of [view, guard.view('tags')]) {
      const { rows } = await engine.store.query(`SELECT code FROM ${from} AS v ORDER BY code`, [...values])
      expect(rows).to.deep.equal([{ code: 'a' }, { code: 'a ' }, { code: 'b' }])
    }
  })
})
