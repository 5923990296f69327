import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import knexOf, { type Knex } from 'knex'
import { Kysely, PostgresDialect, sql, SqliteDialect } from 'kysely'
import pg from 'pg'
import { and, count, eq, gt, lte, ne } from 'drizzle-orm'
import { drizzle } from 'drizzle-orm/better-sqlite3'
import { drizzle as drizzlePostgresql } from 'drizzle-orm/node-postgres'
import { alias as pgAlias, bigint, pgTable, text as pgText } from 'drizzle-orm/pg-core'
import { alias, int, sqliteTable, text as sqliteText } from 'drizzle-orm/sqlite-core'
import { createGuard, type RecordOf } from 'pachter'
import { drizzleFilter, drizzleView } from 'pachter/drizzle'
import { knexFilter, knexView } from 'pachter/knex'
import { kyselyFilter, kyselyView } from 'pachter/kysely'
import type { SqlStore } from 'pachter/sql'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { compileErrors } from './support/compiled.js'
import { type Engine, load, openEngines } from './support/engines.js'
import { generatePrisma } from './support/prisma.js'
import { NOW } from './support/korenveld.js'
import { scratchFolder } from './support/scratch.js'

type Tables = { [T in keyof typeof model.tables & ('entries' | 'plots' | 'members')]: RecordOf<typeof model, T> }

/** Queries that would tell of hidden rows, or count them, in one way or another; `@` stands before a table. */
const QUERIES = [
  'SELECT e.id, p.number FROM @entries e JOIN @plots p ON p.id = e."plotId" ORDER BY e.id',
  'SELECT p.id, count(e.id) AS n, max(e.id) AS m FROM @plots p LEFT JOIN @entries e ON e."plotId" = p.id GROUP BY p.id ORDER BY p.id',
  'SELECT m.id, m.email FROM @members m LEFT JOIN @entries e ON e."authorId" = m.id WHERE e.id IS NULL ORDER BY m.id',
  'SELECT e.id FROM @entries e WHERE NOT EXISTS (SELECT 1 FROM @remarks r WHERE r."entryId" = e.id) ORDER BY e.id',
  'SELECT count(m.email) AS n, (SELECT count(*) FROM @rents) AS r FROM @members m',
]

/** The first example of a language under a heading. */
const codeUnder = (page: string, heading: string, language = 'ts'): string =>
  new RegExp(`^## ${heading}\n(?:(?!^## )[^])*?\`\`\`${language}\n([^]*?)\`\`\``, 'm').exec(page)?.[1] ?? ''

describe('queries of one’s own', () => {
  const folder = scratchFolder()
  const file = join(folder, 'korenveld.db')
  const database = new Database(file)
  const store = sqliteStore(database)
  let engines: readonly Engine[]
  let knex: Knex
  const as = (caller: (typeof callers)[keyof typeof callers], on: SqlStore = store) =>
    createGuard({ rules, store: on, clock: () => NOW }).as(caller)
  const everyone = Object.values(callers)

  before(async () => {
    const data = await readData()
    engines = await openEngines()
    for (const engine of engines) await load(engine, model, data)
    await load({ name: 'file', store, close: async () => undefined }, model, data)
    knex = knexOf({ client: 'better-sqlite3', connection: { filename: file }, useNullAsDefault: true })
  })
  after(async () => {
    await knex.destroy()
    database.close()
  })

  it('come out, over views, as if what is hidden were not there', async () => {
    for (const caller of everyone) {
      // A second Korenveld that holds nothing but what this caller sees.
      const copy = new Database(':memory:')
      const seen = Object.entries(model.tables).map(async ([table, { fields }]) => {
        const records = await as(caller)
          .list(table as 'entries')
          .catch(() => [])
        // What must have a value in the real tables may be missing from this caller's.
        const optional = Object.entries(fields).map(([name, field]) => [name, { ...field, optional: !field.key }])
        return [table, { key: model.tables[table]?.key, fields: Object.fromEntries(optional) }, records] as const
      })
      const tables = await Promise.all(seen)
      const seenModel = { tables: Object.fromEntries(tables.map(([table, data]) => [table, data])) }
      const copied = sqliteStore(copy)
      const records = Object.fromEntries(tables.map(([table, , rows]) => [table, rows]))
      await load({ name: 'copy', store: copied, close: async () => undefined }, seenModel as never, records as never)
      for (const query of QUERIES) {
        const values: unknown[] = []
        const text = query.replace(/@(\w+)/g, (_, table: 'entries') => {
          const view = as(caller).view(table)
          values.push(...view.values)
          return view.text
        })
        const expected = copy.prepare(query.replaceAll('@', '')).all()
        expect(database.prepare(text).all(...values), query).to.deep.equal(expected)
      }
      copy.close()
    }
  })

  it('take the filter with an alias, further values and placeholders of their own, on every engine', async () => {
    for (const { store: on } of engines) {
      const q = on.dialect.identifier
      for (const caller of everyone.slice(1)) {
        const expected = await as(caller, on).count('entries', { where: (row) => row.id.atMost(20) })
        for (const form of ['gather', 'scan', 'walk'] as const) {
          const numbered = on.dialect.numbered && { placeholder: (number: number) => `$${number + 1}` }
          const { text, values } = as(caller, on).filter('entries', 'read', { alias: 'e', form, ...numbered })
          const first = on.dialect.numbered ? '$1::bigint' : '?'
          const query = `SELECT count(*) AS n FROM ${q('entries')} AS e WHERE e.id <= ${first} AND ${text}`
          expect(Number((await on.query(query, [20, ...values])).rows[0]?.['n'])).to.equal(expected)
        }
      }
    }
    expect(as(callers.nobody).filter('rents', 'read').text).to.equal('FALSE')
  })

  it('through Kysely, on SQLite and PostgreSQL', async () => {
    const server = engines.find(({ name }) => name === 'PostgreSQL')
    const pool = server && new pg.Pool({ connectionString: server.url, max: 2 })
    const dialects = [
      { dialect: new SqliteDialect({ database: new Database(file) }), on: store },
      ...(pool ? [{ dialect: new PostgresDialect({ pool }), on: postgresqlStore(pool) }] : []),
    ]
    for (const { dialect, on } of dialects) {
      const db = new Kysely<Tables>({ dialect })
      for (const caller of everyone) {
        const scoped = as(caller, on)
        const entries = await scoped.list('entries')
        const filtered = db
          .selectFrom('entries as e')
          .select('e.id')
          .where(kyselyFilter(scoped, 'entries', 'e'))
        expect((await filtered.orderBy('e.id').execute()).map(({ id }) => Number(id))).to.deep.equal(
          entries.map(({ id }) => id),
        )
        const joined = await db
          .selectFrom(kyselyView(scoped, 'plots').as('p'))
          .leftJoin(kyselyView(scoped, 'entries').as('e'), 'e.plotId', 'p.id')
          .select(['p.id', sql<number>`count(e.id)`.as('n')])
          .groupBy('p.id')
          .execute()
        const count = (id: number) => entries.filter(({ plotId }) => plotId === id).length
        expect(joined).to.have.length(await scoped.count('plots'))
        for (const { id, n } of joined) expect(Number(n)).to.equal(count(Number(id)))
      }
      await db.destroy()
    }
  })

  it('through Knex, on SQLite', async () => {
    for (const caller of everyone) {
      const scoped = as(caller)
      const entries = await scoped.list('entries')
      const filtered = await knex('entries as e')
        .where(knexFilter(knex, scoped, 'entries', 'e'))
        .orderBy('e.id')
        .select('e.id')
      expect(filtered.map(({ id }: { id: number }) => id)).to.deep.equal(entries.map(({ id }) => id))
      const joined = (await knex
        .from(knexView(knex, scoped, 'plots', 'p'))
        .leftJoin(knexView(knex, scoped, 'entries', 'e'), 'e.plotId', 'p.id')
        .where('p.areaM2', '>', 60)
        .groupBy('p.id')
        .select('p.id')
        .count('e.id as n')) as unknown as { id: number; n: number }[]
      for (const { id, n } of joined) expect(n).to.equal(entries.filter(({ plotId }) => plotId === id).length)
    }
  })

  it('through Drizzle, on SQLite and PostgreSQL', async () => {
    for (const caller of everyone) {
      const scoped = as(caller)
      const plots = sqliteTable('plots', { id: int('id').primaryKey(), areaM2: int('areaM2').notNull() })
      const entries = sqliteTable('entries', {
        id: int('id').primaryKey(),
        plotId: int('plotId').notNull(),
        title: sqliteText('title').notNull(),
      })
      const db = drizzle(database)
      const seen = await scoped.list('entries')
      const filtered = await db
        .select({ id: entries.id })
        .from(entries)
        .where(and(drizzleFilter(scoped, 'entries', entries), lte(entries.id, 40)))
        .orderBy(entries.id)
      expect(filtered.map(({ id }) => id)).to.deep.equal(seen.map(({ id }) => id).filter((id) => id <= 40))
      const [e, p] = [drizzleView(scoped, 'entries', entries), drizzleView(scoped, 'plots', alias(plots, 'p'))]
      const joined = await db
        .select({ id: p.id, area: p.areaM2, n: count(e.id) })
        .from(p)
        .leftJoin(e, eq(e.plotId, p.id))
        .where(gt(p.areaM2, 60))
        .groupBy(p.id)
      for (const { id, n } of joined) expect(n).to.equal(seen.filter(({ plotId }) => plotId === id).length)
      // What may be hidden is typed so.
      const areas: (number | null)[] = joined.map(({ area }) => area)
      expect(areas.every((area) => area === null || area > 60)).to.equal(true)
    }
    const server = engines.find(({ name }) => name === 'PostgreSQL')
    if (!server) return
    const pool = new pg.Pool({ connectionString: server.url as string, max: 2 })
    const jobs = pgTable('jobs', { id: bigint('id', { mode: 'number' }).primaryKey(), title: pgText('title') })
    for (const caller of everyone.slice(1)) {
      const scoped = as(caller, server.store)
      const j = drizzleView(scoped, 'jobs', pgAlias(jobs, 'j'))
      const found = await drizzlePostgresql(pool).select().from(j).where(ne(j.title, '')).orderBy(j.id)
      expect(found).to.deep.equal((await scoped.list('jobs')).map(({ id, title = null }) => ({ id, title })))
    }
    await pool.end()
  })

  it('end guarded as the page on query builders has them', async () => {
    const page = readFileSync(fileURLToPath(new URL('../docs/query-builders.md', import.meta.url)), 'utf8')
    const [, start = ''] = /```ts\n([^]*?)```/.exec(page) ?? []
    const builders = ['Drizzle', 'Kysely', 'Knex', 'Prisma'].map((name) => codeUnder(page, name))
    const example = scratchFolder(fileURLToPath(new URL('../examples/allotment/.scratch-', import.meta.url)))
    generatePrisma(example, 'sqlite', codeUnder(page, 'Prisma', 'prisma'))
    const noor = as(callers.noor)
    const entries = await noor.list('entries', { orderBy: ['id descending'] })
    for (const [at, code] of builders.entries()) {
      // Prisma has no view.
      const view = code.includes('const seen')
        ? ['seen', "export const hidden: (typeof seen)[number]['title'] = null"]
        : ['filtered as seen', '']
      const whole = `${start}\n${code}\n${view[1]}\nexport { leaky, filtered, ${view[0]}, busiest }`
      const here = whole
        .replaceAll("'./generated", "'./~generated")
        .replaceAll("'./", "'../")
        .replaceAll("'../~", "'./")
        .replaceAll(/'(file:)?korenveld.db'/g, (_, scheme = '') => JSON.stringify(`${scheme}${file}`))
      writeFileSync(join(example, `${at}.ts`), here)
      const { leaky, filtered, seen, busiest } = (await import(join(example, `${at}.ts`))) as Record<string, object[]>
      expect(leaky).to.have.length(45)
      expect(filtered).to.deep.equal(entries.map(({ id, title }) => ({ id, title })))
      expect(seen?.map((row) => (row as { id: number }).id)).to.deep.equal(entries.map(({ id }) => id))
      const countOf = (row: { entries?: number; _count?: { entries: number } }) => row.entries ?? row._count?.entries
      const counted = (busiest ?? []).reduce((sum, row) => sum + Number(countOf(row)), 0)
      expect([busiest?.length, counted]).to.deep.equal([30, entries.length])
    }
    const files = builders.map((_, at) => join(example, `${at}.ts`))
    expect(compileErrors(files)).to.equal('')
  })
})
