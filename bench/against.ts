// The code as it is against an earlier build of it, task by task, taking turns on the same data. Each runs twice, on
// connections of its own, opened in an order that favours neither: what the two of one build differ by is what the clock
// cannot tell apart.
//   PACHTER_BEFORE=<folder of the earlier build's dist> tsx bench/against.ts
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join, resolve } from 'node:path'
import { pathToFileURL } from 'node:url'
import Database from 'better-sqlite3'
import mysql from 'mysql2/promise'
import pg from 'pg'
import { defineCaller, defineRules, integer } from 'pachter'
import type { SqlStore } from 'pachter/sql'
import { model } from '../examples/allotment/model.js'
import { startMariadb, startPostgresql } from '../test/support/servers.js'
import { takeTurns } from './measure.js'
import { generate, REACHES, rules } from './world.js'

/** About how many milliseconds a task is measured for. */
const BUDGET = 9_000
const entries = Number(process.env['PACHTER_ENTRIES'] ?? 100_000)
const before = resolve(process.env['PACHTER_BEFORE'] ?? '.')
const now = resolve('dist')
const ARMS = { before, now, nowAgain: now, beforeAgain: before }
type Each<T> = Record<keyof typeof ARMS, T>
const forEachArm = async <T>(make: (arm: keyof typeof ARMS) => Promise<T>): Promise<Each<T>> => {
  const made: Partial<Each<T>> = {}
  for (const arm of Object.keys(ARMS) as (keyof typeof ARMS)[]) made[arm] = await make(arm)
  return made as Each<T>
}

type Build = Record<string, (...given: unknown[]) => never>
const load = (build: string, file: string) => import(pathToFileURL(join(build, file)).href) as Promise<Build>

/** Connectors had another folder once. */
const connector = (build: string, name: string): Promise<Build> =>
  load(build, `${existsSync(join(build, 'connect')) ? 'connect' : 'store'}/${name}.js`)

/** For each engine, what each build opens on the same data. */
const engines: Readonly<Record<string, () => Promise<{ open(build: string): Promise<unknown>; close(): unknown }>>> = {
  SQLite: async () => {
    const folder = mkdtempSync(join(tmpdir(), 'pachter-against-'))
    const file = join(folder, 'korenveld.db')
    const databases: Database.Database[] = []
    return {
      open: async (build) => {
        const database = new Database(file)
        for (const pragma of ['journal_mode = WAL', 'synchronous = NORMAL']) database.pragma(pragma)
        databases.push(database)
        return (await connector(build, 'sqlite'))['sqliteStore']?.(database)
      },
      close: () => (databases.forEach((each) => each.close()), rmSync(folder, { recursive: true })),
    }
  },
  PostgreSQL: async () => {
    const server = await startPostgresql()
    const pools: pg.Pool[] = []
    return {
      open: async (build) => {
        const pool = new pg.Pool({ connectionString: server.url, max: 1 })
        pools.push(pool)
        return (await connector(build, 'postgresql'))['postgresqlStore']?.(pool)
      },
      close: async () => (await Promise.all(pools.map((each) => each.end())), server.stop()),
    }
  },
  MariaDB: async () => {
    const server = await startMariadb()
    const pools: mysql.Pool[] = []
    return {
      open: async (build) => {
        const pool = mysql.createPool({ uri: server.url, connectionLimit: 1 })
        pools.push(pool)
        return (await connector(build, 'mariadb'))['mariadbStore']?.(pool)
      },
      close: async () => (await Promise.all(pools.map((each) => each.end())), server.stop()),
    }
  },
}

/** A scoped store of either build. */
type Scoped = Record<string, (...given: unknown[]) => Promise<{ id: number }[]>>

/** Who has an entry shared may change it: a right that rests on another record. */
const resting = defineRules(model, defineCaller({ id: integer() }), {
  entries: ({ row, caller, table }) =>
    table
      .ties({ reader: row.entryShares.some((share) => share.memberId.is(caller.id)) })
      .grants({ read: ['reader'], update: [{ to: 'reader', fields: ['title'] }] }),
})

/** Everybody sees what belongs to an entry. */
const open = defineRules(model, defineCaller({ id: integer() }), {
  entries: ({ row, caller, table }) => table.ties({ author: row.authorId.is(caller.id) }).grants({ read: ['author'] }),
  members: ({ anyone, table }) => table.grants({ read: [anyone] }),
  entryShares: ({ anyone, table }) => table.grants({ read: [anyone] }),
})

const names = (process.env['PACHTER_BENCH'] ?? Object.keys(engines).join()).split(',')
console.log('| engine | task | before, µs | now, µs | now / before | before / before | now / now |')
console.log('| --- | --- | --- | --- | --- | --- | --- |')
for (const name of names) {
  const { open: connect, close } = (await engines[name]?.()) as Awaited<
    ReturnType<NonNullable<(typeof engines)[string]>>
  >
  const stores = await forEachArm((arm) => connect(ARMS[arm]))
  const store = stores.now as unknown as SqlStore
  await generate(store, entries)
  const both = (caller: object, of: object = rules) =>
    forEachArm(async (arm) => {
      const { createGuard } = await load(ARMS[arm], 'index.js')
      const guard = createGuard?.({ rules: of, store: stores[arm] }) as unknown as { as(caller: object): Scoped }
      return guard.as(caller)
    })
  const sharing = await both(REACHES[100], resting)
  const [{ id: shared = 0 } = {}] = (await sharing.now['list']?.('entries', { limit: 1 })) ?? []
  const few = await both(REACHES[100])
  const all = await both(REACHES.all)
  const opened = await both(REACHES[100], open)
  const [{ id: key = 0 } = {}] =
    (await few.now['list']?.('entries', { where: (row: Row) => row['authorId']?.is(1), limit: 1 })) ?? []
  const fresh = { plotId: 1, audience: 'private', title: 'x', body: 'x' }
  const tasks: Readonly<Record<string, (as: Scoped, at: number) => Promise<unknown> | undefined>> = {
    'point read': (as) => as['get']?.('entries', key),
    'list 50 of 100': (as) => as['list']?.('entries', { limit: 50 }),
    'list 50 of all': (as) => as['list']?.('entries', { limit: 50 }),
    'list 50 by a moment': (as) => as['list']?.('entries', { limit: 50, orderBy: 'createdAt' }),
    'count of 100': (as) => as['count']?.('entries'),
    'list 50 with $access': (as) => as['list']?.('entries', { limit: 50, access: true }),
    'list 50 with related': (as) =>
      as['list']?.('entries', { limit: 50, with: { author: true, entryShares: { limit: 3 } } }),
    'list 50 with related, none seen': (as) =>
      as['list']?.('entries', { limit: 50, with: { author: true, remarks: { limit: 3 } } }),
    'update, on its own': (as, at) => as['update']?.('entries', key, { title: `t ${at} ${Math.random()}` }),
    'update, resting on a share': (as, at) => as['update']?.('entries', shared, { title: `t ${at} ${Math.random()}` }),
    'create, on its own, and delete': async (as) => {
      const { id } = (await as['create']?.('entries', fresh)) as unknown as { id: number }
      await as['delete']?.('entries', id)
    },
  }
  const asking: Readonly<Record<string, typeof few>> = {
    'list 50 of all': all,
    'list 50 with related': opened,
    'update, resting on a share': sharing,
  }
  for (const [task, run] of Object.entries(tasks)) {
    const guards = asking[task] ?? few
    const times = await takeTurns(
      Object.fromEntries(
        Object.entries(guards).map(([build, as]) => [build, (at: number) => Promise.resolve(run(as, at))]),
      ),
      BUDGET,
      BUDGET / 10,
    )
    const of = (arm: keyof typeof ARMS) => (times[arm] ?? 0) * 1000
    const was = (of('before') + of('beforeAgain')) / 2
    const is = (of('now') + of('nowAgain')) / 2
    const ratios = [is / was, of('beforeAgain') / of('before'), of('nowAgain') / of('now')]
    console.log(
      `| ${[name, task, was.toFixed(1), is.toFixed(1), ...ratios.map((each) => each.toFixed(2))].join(' | ')} |`,
    )
  }
  await close()
}

type Row = Readonly<Record<string, { is(value: unknown): unknown }>>
