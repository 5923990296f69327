import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import { drizzle } from 'drizzle-orm/better-sqlite3'
import { integer as int, numeric, sqliteTable, text as words } from 'drizzle-orm/sqlite-core'
import mysql from 'mysql2/promise'
import pg from 'pg'
import {
  createGuard,
  decimal,
  defineCaller,
  defineRules,
  integer,
  type KeyOf,
  list,
  ModelError,
  type RecordOf,
  references,
  text,
  timestamp,
  UnknownNameError,
  uuid,
} from 'pachter'
import { driftOf, readCatalogue } from 'pachter/adopt'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { drizzleView } from 'pachter/drizzle'
import { drizzleModel } from 'pachter/drizzle/model'
import * as oldClub from './databases/drizzle/old-club.js'
import * as seedBank from './databases/drizzle/seed-bank.js'
import * as toolShed from './databases/drizzle/tool-shed.js'
import { type Foreign, openForeign } from './support/adopted.js'
import { scratchFolder } from './support/scratch.js'

/** Whether two types are one. */
type Same<A, B> = (<T>() => T extends A ? 1 : 2) extends <T>() => T extends B ? 1 : 2 ? true : false
type Holds<T extends true> = T

const shed = drizzleModel(toolShed, {
  casing: 'snake_case',
  fields: {
    users: { passwordHash: null },
    toolShares: { toolId: references('tools').key(), userId: references('users').key() },
    repairs: { reportedBy: references('users'), assignedTo: references('users') },
  },
})
const bank = drizzleModel(seedBank, {
  fields: {
    varieties: { species: text().key(), varietyNo: integer().key(), ownerNo: references('growers') },
    lots: { growerNo: references('growers') },
  },
})
const club = drizzleModel(oldClub, {
  fields: {
    tables: { ownerId: references('members'), when: timestamp() },
    posts: { authorId: references('members') },
  },
})

/** What the compiler makes of them; a wrong one does not compile. */
export type Typed = [
  Holds<
    Same<
      RecordOf<typeof shed, 'tools'>,
      {
        readonly id: string
        readonly associationId: string
        readonly ownerId: string
        readonly name: string
        readonly label: string | null
        readonly condition: 'new' | 'worn' | 'broken'
        readonly visibility: 'private' | 'public'
        readonly deposit: `${number}.${number}` | null
        readonly tags: readonly string[]
        readonly manual: { pages: number } | null
        readonly bought: `${number}-${number}-${number}` | null
        readonly opensAt: `${number}:${number}:${number}` | null
        readonly gone: Date | null
        readonly shout: string | null
      }
    >
  >,
  Holds<Same<RecordOf<typeof shed, 'users'>['role'], 'borrower' | 'keeper'>>,
  Holds<Same<'passwordHash' extends keyof RecordOf<typeof shed, 'users'> ? true : false, false>>,
  Holds<Same<RecordOf<typeof shed, 'repairs'>['updatedAt'], Date>>,
  Holds<Same<RecordOf<typeof shed, 'repairParts'>['serialNumbers'], readonly bigint[] | null>>,
  Holds<Same<KeyOf<typeof shed, 'repairs'>, number>>,
  Holds<Same<KeyOf<typeof shed, 'toolShares'>, { readonly toolId: string; readonly userId: string }>>,
  Holds<Same<KeyOf<typeof bank, 'varieties'>, { readonly species: string; readonly varietyNo: number }>>,
  Holds<Same<RecordOf<typeof bank, 'varieties'>['kind'], 'open' | 'hybrid' | "it's unknown">>,
  Holds<Same<RecordOf<typeof bank, 'lots'>['growerNo'], string>>,
  Holds<Same<RecordOf<typeof club, 'tables'>['when'], Date | null>>,
]

const caller = defineCaller({ id: uuid(), associationId: uuid() })

/** Rules along references that relations tell of, and along those that are said besides. */
const rules = defineRules(shed, caller, {
  tools: ({ row, caller: who, table }) =>
    table
      .ties({
        owner: row.ownerId.is(who.id),
        colleague: row.association.id.is(who.associationId),
        borrower: row.toolShares.some((share) => share.userId.is(who.id)),
      })
      .grants({ read: ['owner', 'borrower'] }),
  repairs: ({ row, caller: who, table }) =>
    table
      .ties({ reporter: row.reportedByRecord.id.is(who.id), owner: row.tool.owner.id.is(who.id) })
      .grants({ read: ['reporter', 'owner'] }),
})

function storeOf({ name, folder, address }: Foreign) {
  if (name === 'tool-shed') {
    const pool = new pg.Pool({ connectionString: address, max: 1 })
    return { ...postgresqlStore(pool), close: () => pool.end() }
  }
  if (name === 'seed-bank') {
    const pool = mysql.createPool({ uri: address.replace('mariadb:', 'mysql:'), connectionLimit: 1 })
    return { ...mariadbStore(pool as never), close: () => pool.end() }
  }
  const database = new Database(join(folder, address))
  return { ...sqliteStore(database), close: async () => void database.close() }
}

describe('a model of a Drizzle schema', () => {
  let databases: readonly Foreign[] = []
  before(async () => {
    databases = await openForeign()
  })
  after(async () => {
    for (const each of databases) await each.close()
  })

  it('is of one mind with the database, and guards it', async () => {
    for (const foreign of databases) {
      const model = { 'tool-shed': shed, 'seed-bank': bank, 'old-club': club }[foreign.name]
      const store = storeOf(foreign)
      expect(driftOf(model as typeof shed, await readCatalogue(store)), foreign.name).to.deep.equal([])
      if (model === shed) {
        const guard = createGuard({ rules, store })
        const as = (at: string) =>
          guard.as({
            id: `b0000000-0000-4000-8000-00000000000${at}`,
            associationId: 'a0000000-0000-4000-8000-000000000001',
          })
        const names = async (at: string) => (await as(at).list('tools')).map(({ name }) => name)
        expect([await names('1'), await names('2'), await names('3')]).to.deep.equal([
          ['Spade', 'Rake'],
          ['Spade', 'Saw'],
          ['Axe'],
        ])
        expect(await as('2').count('repairs')).to.equal(1)
      }
      await store.close()
    }
  })

  it('comes out as the page on query builders has it', async () => {
    const page = readFileSync(new URL('../docs/query-builders.md', import.meta.url), 'utf8')
    const code = /^## The model of a Drizzle schema[^]*?```ts\n([^]*?)```/m.exec(page)?.[1] ?? ''
    const folder = scratchFolder(fileURLToPath(new URL('./databases/drizzle/.scratch-', import.meta.url)))
    writeFileSync(join(folder, 'model.ts'), code.replace("'./schema.js'", "'../tool-shed.js'"))
    const { model } = (await import(join(folder, 'model.ts'))) as { model: typeof shed }
    expect(model).to.deep.equal(shed)
  })

  it('says what its types do not see of the schema, in words to copy', () => {
    const message = (make: () => unknown) => {
      try {
        make()
      } catch (error) {
        return error instanceof ModelError || error instanceof UnknownNameError ? error.message : String(error)
      }
      return 'nothing'
    }
    expect(message(() => drizzleModel(toolShed))).to.equal(
      'Types do not see all that the schema says; say it to drizzleModel, too: fields: { ' +
        "repairs: { reportedBy: references('users'), assignedTo: references('users') }, " +
        "toolShares: { toolId: references('tools').key(), userId: references('users').key() } }.",
    )
    const wrong = { repairs: { reportedBy: references('tools'), assignedTo: references('users') } } as const
    expect(message(() => drizzleModel(toolShed, { fields: wrong }))).to.equal(
      'In the schema, repairs.reportedBy leads to users; fields has it lead to tools.',
    )
    const seeds = sqliteTable('seeds', { id: int().primaryKey(), price: numeric({ mode: 'string' } as never) })
    const priced = { id: int().primaryKey(), name: words() }
    expect(message(() => drizzleModel({ seeds }))).to.equal('nothing')
    expect(message(() => drizzleModel({ seeds }, { fields: { seeds: { colour: text() } } as never }))).to.equal(
      'There is no column "colour" in seeds.',
    )
    expect(message(() => drizzleModel({ seeds }, { fields: { plots: {} } as never }))).to.equal(
      'There is no table "plots".',
    )
    const bare = sqliteTable('bare', { name: words() })
    expect(message(() => drizzleModel({ bare }))).to.equal('The table bare has no key; mark a field with key().')
    expect(drizzleModel({ seeds, renamed: sqliteTable('old name', priced) }).tables).to.have.nested.property(
      'renamed.stored.name',
      'old name',
    )
    // Where types stand in for what the database has not: a list of texts in SQLite, a price.
    const told = drizzleModel({ seeds }, { fields: { seeds: { price: decimal(2) } } })
    const price: RecordOf<typeof told, 'seeds'>['price'] = '1.50'
    expect([price, told.tables['seeds']?.fields['price']?.scale, list(text()).data.type]).to.deep.equal([
      '1.50',
      2,
      'list',
    ])
  })

  it('has views whose columns may be null, but for the key', async () => {
    const club = databases.find(({ name }) => name === 'old-club') as Foreign
    const database = new Database(join(club.folder, club.address))
    const model = drizzleModel(oldClub, { fields: { posts: { authorId: references('members') } } })
    const some = defineRules(model, defineCaller({ id: integer() }), {
      posts: ({ row, caller: who, table }) =>
        table.ties({ author: row.authorId.is(who.id) }).grants({ read: [{ to: 'author', fields: ['id', 'text'] }] }),
    })
    const scoped = createGuard({ rules: some, store: sqliteStore(database) }).as({ id: 1 })
    const seen = await drizzle(database)
      .select()
      .from(drizzleView(scoped, 'posts', oldClub.posts))
    const typed: { id: number; authorId: number | null; text: string | null }[] = seen
    type Seen = (typeof seen)[number]
    const isSame: Same<Seen, { id: number; authorId: number | null; text: string | null }> = true
    expect(isSame).to.equal(true)
    expect(typed.map(({ authorId }) => authorId)).to.deep.equal(typed.map(() => null))
    expect(typed.length).to.be.greaterThan(0)
    database.close()
  })
})
