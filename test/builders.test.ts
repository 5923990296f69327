import Database from 'better-sqlite3'
import { expect } from 'chai'
import { sql as drizzleSql } from 'drizzle-orm'
import { drizzle as drizzleSqlite } from 'drizzle-orm/better-sqlite3'
import { mysqlSchema, mysqlTable, text as mysqlText } from 'drizzle-orm/mysql-core'
import { drizzle as drizzleMariadb } from 'drizzle-orm/mysql2'
import { drizzle as drizzlePostgresql } from 'drizzle-orm/node-postgres'
import { pgSchema, pgTable, text as pgText } from 'drizzle-orm/pg-core'
import { sqliteTable, text as sqliteText } from 'drizzle-orm/sqlite-core'
import fc from 'fast-check'
import knexOf, { type Knex } from 'knex'
import { type Dialect, Kysely, MysqlDialect, PostgresDialect, sql, SqliteDialect } from 'kysely'
import mysql from 'mysql2'
import { createPool } from 'mysql2/promise'
import pg from 'pg'
import { createGuard, RefusedError } from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { drizzleFilter, drizzleView } from 'pachter/drizzle'
import { knexFilter, knexView } from 'pachter/knex'
import { kyselyFilter, kyselyView } from 'pachter/kysely'
import { storedField, storedTable, tableOf } from 'pachter/model'
import { type AnyStore } from './support/answers.js'
import { someoneIn } from './support/callers.js'
import { type Engine, load, openEngines, stopsAtFirst } from './support/engines.js'
import { NOW, TABLES, worlds } from './support/worlds.js'

const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 6)
const seed = process.env['PACHTER_SEED'] ?? (process.env['CI'] ? '20261128' : undefined)

/** Each builder over one database. Of Drizzle, as much as is the same for all of its databases. */
interface Builders {
  readonly kysely: Dialect
  readonly knex: Knex
  readonly drizzle: {
    select(fields: object): {
      from(table: object): PromiseLike<unknown[]> & { where(that: object): PromiseLike<unknown[]> }
    }
  }
  /** A table as Drizzle knows it, with the columns of its key. */
  table(schema: string | undefined, name: string, columns: Readonly<Record<string, string>>): object
  close(): Promise<unknown>
}

const columnsBy = (type: (name: string) => unknown, columns: Readonly<Record<string, string>>) =>
  Object.fromEntries(Object.entries(columns).map(([name, stored]) => [name, type(stored)])) as never

const over: Readonly<Record<string, (at: string) => Builders>> = {
  PostgreSQL: (at) => {
    const pool = new pg.Pool({ connectionString: at, max: 2 })
    const knex = knexOf({ client: 'pg', connection: at })
    return {
      kysely: new PostgresDialect({ pool }),
      knex,
      drizzle: drizzlePostgresql(pool) as never,
      table: (schema, name, columns) => {
        const own = columnsBy(pgText, columns)
        return schema === undefined ? pgTable(name, own) : pgSchema(schema).table(name, own)
      },
      close: () => Promise.all([pool.end(), knex.destroy()]),
    }
  },
  MariaDB: (at) => {
    const [pool, other] = [mysql.createPool({ uri: at }), createPool({ uri: at })]
    const knex = knexOf({ client: 'mysql2', connection: at })
    return {
      kysely: new MysqlDialect({ pool: pool as never }),
      knex,
      drizzle: drizzleMariadb(other) as never,
      table: (schema, name, columns) => {
        const own = columnsBy(mysqlText, columns)
        return schema === undefined ? mysqlTable(name, own) : mysqlSchema(schema).table(name, own)
      },
      close: () => Promise.all([pool.promise().end(), other.end(), knex.destroy()]),
    }
  },
}

function overSqlite(database: Database.Database): Builders {
  const knex = knexOf({ client: 'better-sqlite3', connection: { filename: ':memory:' }, useNullAsDefault: true })
  const connection = { acquireRawConnection: async () => database, destroyRawConnection: async () => undefined }
  Object.assign(knex.client as object, connection)
  return {
    kysely: new SqliteDialect({ database }),
    knex,
    drizzle: drizzleSqlite(database) as never,
    table: (_, name, columns) => sqliteTable(name, columnsBy(sqliteText, columns)),
    close: () => knex.destroy(),
  }
}

const drawn = worlds(0).chain((world) =>
  fc.record({
    world: fc.constant(world),
    callers: fc.array(someoneIn(world.rulebook.model), { minLength: 2, maxLength: 2 }),
    isOdd: fc.boolean(),
  }),
)

describe('query builders, on drawn worlds', function () {
  this.timeout(0)

  it('find what the guard lists, through each builder on each database', async () => {
    const servers = (await openEngines()).filter(({ name }) => over[name])
    let found = 0
    await fc.assert(
      fc.asyncProperty(drawn, async ({ world: { rulebook, data }, callers, isOdd }) => {
        const { model } = rulebook
        const database = new Database(':memory:')
        const own: Engine = { name: 'better-sqlite3', store: sqliteStore(database), close: async () => undefined }
        for (const engine of [own, ...servers]) {
          await load(engine, model, data, isOdd)
          const builders =
            engine === own ? overSqlite(database) : (over[engine.name] as (typeof over)[string])(engine.url as string)
          const { knex, drizzle } = builders
          const kysely = new Kysely<never>({ dialect: builders.kysely })
          const guard = createGuard({ rules: rulebook as never, store: { ...engine.store }, clock: () => NOW })
          for (const caller of callers) {
            for (const table of TABLES) {
              const scoped = guard.as(caller as never) as never
              const { schema, name } = storedTable(model, table)
              const key = tableOf(model, table).key.map((field) => [field, storedField(model, table, field)] as const)
              const listed = await Promise.resolve((scoped as AnyStore)['list']?.(table)).catch((error: unknown) => {
                if (error instanceof RefusedError) return []
                throw error
              })
              const path = schema === undefined ? [name] : [schema, name]
              const as = builders.table(schema, name, Object.fromEntries(key)) as never
              const one = { one: drizzleSql`1` }
              const queries: Readonly<Record<string, () => PromiseLike<unknown[]>>> = {
                'kysely filter': async () =>
                  (
                    await sql`SELECT 1 FROM ${sql.id(...path)} AS e WHERE ${kyselyFilter(scoped, table as never, 'e')}`.execute(
                      kysely,
                    )
                  ).rows,
                'kysely view': async () =>
                  (await sql`SELECT 1 FROM ${kyselyView(scoped, table as never).as('e')}`.execute(kysely)).rows,
                // Knex has no way to write a ? in a name on SQLite and MariaDB.
                ...(!`${name}${key[0]?.[1]}`.includes('?') && {
                  'knex filter': () => {
                    const from = knex.raw(`${path.map(() => '??').join('.')} as ??`, [...path, 'e'])
                    return knex
                      .select(knex.raw('1'))
                      .from(from as never)
                      .where(knexFilter(knex, scoped, table as never, 'e'))
                  },
                  'knex view': () =>
                    knex.select(knex.raw('1')).from(knexView(knex, scoped, table as never, 'e') as never),
                }),
                // Drizzle knows no schemas of SQLite's.
                ...((engine !== own || schema === undefined) && {
                  'drizzle filter': () =>
                    drizzle
                      .select(one)
                      .from(as)
                      .where(drizzleFilter(scoped, table as never, as)),
                  'drizzle view': () => drizzle.select(one).from(drizzleView(scoped, table as never, as)),
                }),
              }
              for (const [what, ask] of Object.entries(queries)) {
                const rows = await ask()
                expect(rows.length, `${engine.name} ${what} ${table}`).to.equal((listed as unknown[]).length)
                found += rows.length
              }
            }
          }
          await builders.close()
        }
        database.close()
      }),
      { numRuns: WORLDS, endOnFailure: stopsAtFirst, ...(seed && { seed: Number(seed) }) },
    )
    expect(found).to.be.greaterThan(20 * WORLDS)
  })
})
