import { expect } from 'chai'
import {
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  readRulebook,
  references,
  text,
  timestamp,
  trusted,
} from 'pachter'
import { storedField, storedTable } from 'pachter/model'
import { createTables, postgresql } from 'pachter/sql'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

const model = defineModel(
  {
    members: { id: integer().key(), fullName: text() },
    plots: {
      id: integer().key().generated().storedAs('the "id"'),
      holderId: references('members').storedAs('order'),
      soil: text().unique().storedAs('select'),
      changedAt: timestamp().optional(),
    },
  },
  { naming: 'snakeCase', schema: 'the `garden`', tables: { plots: "Plots' Old" } },
)

const rulesFor = (of: typeof model) =>
  defineRules(of, defineCaller({ id: integer() }), {
    members: ({ anyone, table }) => table.grants({ read: [anyone] }),
    plots: ({ row, caller, now, table }) =>
      table
        .ties({ holder: row.holderId.is(caller.id), ofAna: row.holder.fullName.is('Ana') })
        .grants({
          read: ['holder', 'ofAna'],
          create: [{ to: 'holder', fields: ['soil'] }],
          update: [{ to: 'holder', fields: ['soil'] }],
          delete: ['holder'],
        })
        .stamps({ create: { holderId: caller.id }, update: { changedAt: now } })
        .conflicts('told'),
  })

const data = {
  members: [
    { id: 1, fullName: 'Ana' },
    { id: 2, fullName: 'Ben' },
  ],
  plots: [{ id: 1, holderId: 1, soil: 'clay' }],
}

/** Writes and reads of all kinds, as ben. */
async function everything({ name, store }: Pick<Engine, 'name' | 'store'>, of = model): Promise<void> {
  const guard = createGuard({ rules: rulesFor(of), store, onDecision: () => undefined })
  const ben = guard.as({ id: 2 })
  const made = await ben.create('plots', { soil: 'peat' })
  expect(made, name).to.include({ holderId: 2, soil: 'peat' })
  const more = await ben.createMany('plots', [{ soil: 'loam' }, { soil: 'sand' }])
  const changed = await ben.update('plots', made.id, { soil: 'silt' })
  expect(changed.changedAt, name).to.be.an.instanceOf(Date)
  const listed = await ben.list('plots', { with: { holder: true }, orderBy: ['soil'], access: true })
  expect(
    listed.map(({ soil, holder, $access }) => [soil, holder?.fullName, $access.may.delete]),
    name,
  ).to.deep.equal([
    ['clay', 'Ana', false],
    ['loam', 'Ben', true],
    ['sand', 'Ben', true],
    ['silt', 'Ben', true],
  ])
  const [members] = await ben.list('members', { with: { plots: { fields: ['soil'] } } })
  expect(members?.plots, name).to.deep.equal([{ id: 1, soil: 'clay' }])
  await ben.deleteMany('plots', [made.id, ...more.map(({ id }) => id)])
  expect(await guard.as(trusted('count')).count('plots'), name).to.equal(1)
}

describe('names of the database', () => {
  it(`are used by reads and writes of all kinds, and told by none, on ${engineNames.join(', ')}`, async () => {
    for (const engine of await openEngines()) {
      await load(engine, model, data)
      await everything(engine)
      const ana = createGuard({ rules: rulesFor(model), store: engine.store }).as({ id: 1 })
      await ana.create('plots', { soil: 'peat' })
      const taken = await refusalOf(ana.update('plots', 1, { soil: 'peat' }))
      expect(taken.code).to.equal('conflict')
      expect(`${taken.message} ${JSON.stringify(taken)}`, engine.name).not.to.match(/select|Old|garden|order/)
      const { text: sql, values } = createGuard({ rules: rulesFor(model), store: engine.store })
        .as({ id: 2 })
        .view('plots')
      const { rows } = await engine.store.query(`SELECT * FROM ${sql} AS v`, [...values])
      expect(Object.keys(rows[0] ?? {}), engine.name).to.deep.equal(['the "id"', 'order', 'select', 'changed_at'])
    }
  })

  it('may be those of a view or of a table in parts, with columns that the model leaves out', async () => {
    for (const engine of await openEngines()) {
      const { dialect } = engine.store
      if (dialect.name === 'sqlite') continue
      const q = dialect.identifier
      const places = { schema: 'public', ...(dialect.name === 'mariadb' && { schema: 'parts' }) }
      const [number, moment] =
        dialect.name === 'mariadb' ? ['BIGINT AUTO_INCREMENT', 'DATETIME(3)'] : ['BIGSERIAL', 'TIMESTAMPTZ']
      const run = async (...statements: string[]) => {
        for (const each of statements) await engine.store.query(each, [])
      }
      if (dialect.name === 'mariadb') await run('CREATE DATABASE IF NOT EXISTS parts')
      const [people, whole, view] = ['people', 'whole', 'seen'].map((name) => `${q(places.schema)}.${q(name)}`)
      await run(
        ...[`DROP VIEW IF EXISTS ${view}`, `DROP TABLE IF EXISTS ${whole}`, `DROP TABLE IF EXISTS ${people}`],
        `CREATE TABLE ${people} (id BIGINT PRIMARY KEY, full_name VARCHAR(50), kept VARCHAR(9) NOT NULL DEFAULT 'kept')`,
        `CREATE TABLE ${whole} (number ${number}, holder BIGINT, soil VARCHAR(50), at ${moment},
          kept VARCHAR(9) NOT NULL DEFAULT 'kept', PRIMARY KEY (number)) PARTITION BY HASH (number)${dialect.name === 'mariadb' ? ' PARTITIONS 2' : ''}`,
        ...(dialect.name === 'mariadb'
          ? []
          : [0, 1].map(
              (at) =>
                `CREATE TABLE ${q(`whole ${at}`)} PARTITION OF ${whole} FOR VALUES WITH (MODULUS 2, REMAINDER ${at})`,
            )),
        `CREATE VIEW ${view} AS SELECT number, holder, soil, at FROM ${whole}`,
        `INSERT INTO ${people} (id, full_name) VALUES (1, 'Ana'), (2, 'Ben')`,
        `INSERT INTO ${whole} (holder, soil) VALUES (1, 'clay')`,
      )
      for (const name of ['whole', 'seen']) {
        const of = defineModel(
          {
            members: { id: integer().key(), fullName: text() },
            plots: {
              id: integer().key().generated().storedAs('number'),
              holderId: references('members').storedAs('holder'),
              soil: text(),
              changedAt: timestamp().optional().storedAs('at'),
            },
          },
          { naming: 'snakeCase', ...places, tables: { members: 'people', plots: name } },
        )
        await run(`DELETE FROM ${whole} WHERE number > 1`)
        await everything({ name: `${engine.name} ${name}`, store: engine.store }, of as never)
      }
      const { rows } = await engine.store.query(`SELECT DISTINCT kept FROM ${whole}`, [])
      expect(rows).to.deep.equal([{ kept: 'kept' }])
    }
  })

  it('are refused where they could not be told apart, or stand in no statement', async () => {
    const fields = { id: integer().key(), a: text(), b: text() }
    const wrong: [() => unknown, RegExp][] = [
      [
        () => defineModel({ one: { ...fields, a: text().storedAs('b') } }),
        /one.a and the field one.b are stored in the same/,
      ],
      [
        () => defineModel({ one: fields, two: fields }, { tables: { two: 'one' } }),
        /table one and the table two are stored/,
      ],
      [
        () => defineModel({ one: fields }, { tables: { one: '_0' } }),
        /one is stored as "_0", a name that statements use/,
      ],
      [() => defineModel({ one: fields }, { tables: { one: 'a\0b' } }), /one is stored under .*cannot name a table/],
      [() => defineModel({ one: fields }, { schema: '' }), /one is stored under "", which cannot name a schema/],
      [
        () => defineModel({ one: { ...fields, a: text().storedAs(' a') } }),
        /one.a is stored under " a", .*name a column/,
      ],
      [() => defineModel({ one: fields }, { naming: 'kebab' as never }), /naming/],
      [() => defineModel({ one: fields }, { tables: { two: 'x' } as never }), /two/],
      [() => defineCaller({ id: integer().storedAs('x') }), /id is not stored/],
    ]
    for (const [define, message] of wrong) {
      expect(((await refusalOf(Promise.resolve().then(define))) as Error).message).to.match(message)
    }
  })

  it('follow a convention, or are said one by one', () => {
    expect(storedTable(model, 'members')).to.deep.equal({ schema: 'the `garden`', name: 'members' })
    expect(storedField(model, 'members', 'fullName')).to.equal('full_name')
    const names = defineModel(
      { parkURL: { id: integer().key(), line2: text(), aBigX: text(), HTTPCode: text() } },
      { naming: 'snakeCase' },
    )
    expect(createTables(names, postgresql)[0]).to.match(
      /^CREATE TABLE "park_url" \("id" .*"line2" .*"a_big_x" .*"http_code" /,
    )
    const again = readRulebook(JSON.stringify(rulesFor(model)))
    expect(again.model).to.deep.equal(JSON.parse(JSON.stringify(model)))
  })
})
