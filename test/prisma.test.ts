import { join } from 'node:path'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import fc from 'fast-check'
import {
  bigInteger,
  boolean,
  choice,
  createGuard,
  date,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  float,
  integer,
  json,
  list,
  references,
  RefusedError,
  type Rulebook,
  type Rules,
  text,
  timestamp,
  uuid,
} from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { NotInWhereError, prismaFilter } from 'pachter/prisma'
import { callerOf, someoneIn } from './support/callers.js'
import { rulesOn } from './support/drawn-rules.js'
import { type Engine, load, openEngines } from './support/engines.js'
import { type Client, prismaClient, type Provider } from './support/prisma.js'
import { about, shown } from './support/shown.js'
import { dataOf, NOW } from './support/worlds.js'
import { scratchFolder } from './support/scratch.js'

const WORLDS = Number(process.env['PACHTER_WORLDS'] ?? 60)

const fields = {
  word: text(),
  note: text().optional(),
  state: choice('draft', 'Draft', 'done').optional(),
  size: integer().optional(),
  large: bigInteger().optional(),
  weight: float().optional(),
  price: decimal(2).optional(),
  isOpen: boolean().optional(),
  at: timestamp().optional(),
  day: date().optional(),
  code: uuid().optional(),
  extra: json().optional(),
  words: list(text()).optional(),
  numbers: list(integer()).optional(),
}

const model = defineModel({
  people: { id: integer().key(), duties: list(text()), email: text().optional() },
  boxes: {
    id: integer().key(),
    keeperId: references('people').optional(),
    insideId: references('boxes').optional(),
    ...fields,
  },
  items: {
    id: integer().key(),
    ownerId: references('people').optional(),
    boxId: references('boxes').optional(),
    ...fields,
  },
  shares: { itemId: references('items').key(), personId: references('people').key(), ...fields },
})

/** The same in Prisma's words: its lists are PostgreSQL's only, and it knows days there only. */
function schemaFor(provider: Provider): string {
  const on = <T>(sqlite: T, postgresql: T): T => (provider === 'sqlite' ? sqlite : postgresql)
  const id = on('Int', 'BigInt')
  const own = `
  word String
  note String?
  state String?
  size BigInt?
  large BigInt?
  weight Float?
  price ${on('Int?', 'Decimal? @db.Decimal(18, 2)')}
  isOpen Boolean?
  at DateTime? ${on('', '@db.Timestamptz(3)')}
  day ${on('String?', 'DateTime? @db.Date')}
  code String? ${on('', '@db.Uuid')}
  extra ${on('String?', 'Json?')}
  words ${on('String?', 'String[]')}
  numbers ${on('String?', 'BigInt[]')}
`
  return `
model Person {
  id ${id} @id
  duties ${on('String', 'String[]')}
  email String?
  kept Box[]
  items Item[]
  shares Share[]
  @@map("people")
}
model Box {
  id ${id} @id
  keeperId ${id}?
  keeper Person? @relation(fields: [keeperId], references: [id])
  insideId ${id}?
  inside Box? @relation("inside", fields: [insideId], references: [id])
  contents Box[] @relation("inside")
  items Item[]
  ${own}
  @@map("boxes")
}
model Item {
  id ${id} @id
  ownerId ${id}?
  owner Person? @relation(fields: [ownerId], references: [id])
  boxId ${id}?
  box Box? @relation(fields: [boxId], references: [id])
  shares Share[]
  ${own}
  @@map("items")
}
model Share {
  itemId ${id}
  personId ${id}
  item Item @relation(fields: [itemId], references: [id])
  person Person @relation(fields: [personId], references: [id])
  ${own}
  @@id([itemId, personId])
  @@map("shares")
}
`
}

const naming = {
  models: { people: 'person', boxes: 'box', items: 'item', shares: 'share' },
  fields: { people: { boxes: 'kept' }, boxes: { boxes: 'contents' } },
} as const

const drawn = fc.record({
  items: rulesOn(model, 'items', undefined, ['boxes']),
  boxes: rulesOn(model, 'boxes', undefined, []),
  data: dataOf(model, true),
  callers: fc.array(someoneIn(model), { minLength: 4, maxLength: 4 }),
})

interface AnyStore {
  list(table: string): Promise<readonly { readonly id: number }[]>
}

/** What comes of it; nothing where an error of that kind does. */
const unless = <T>(kind: abstract new (...given: never[]) => Error, work: Promise<T>): Promise<T | undefined> =>
  work.catch((error: unknown) => {
    if (error instanceof kind) return undefined
    throw error
  })

const filterOf = (prisma: Client, scoped: object, table: string): Promise<object> =>
  prismaFilter(prisma, scoped as never, table as never, naming as never)

interface Subject {
  readonly engine: Engine
  readonly prisma: Client
  close(): Promise<unknown>
}

describe('the where of Prisma', () => {
  const folder = scratchFolder()
  const subjects: Subject[] = []
  before(async function () {
    this.timeout(0)
    const file = join(folder, 'own.db')
    const database = new Database(file)
    const store = sqliteStore(database)
    const lite = await prismaClient('sqlite', schemaFor('sqlite'), file)
    const engine = { name: 'SQLite', store, close: async () => void database.close() }
    subjects.push({ engine, prisma: lite.client, close: () => lite.close().then(() => database.close()) })
    const server = (await openEngines()).find(({ name }) => name === 'PostgreSQL')
    if (!server?.url) return
    const large = await prismaClient('postgresql', schemaFor('postgresql'), server.url)
    subjects.push({ engine: server, prisma: large.client, close: large.close })
  })
  after(async () => {
    for (const each of subjects) await each.close()
  })

  it('finds what the guard lists, or says that it cannot say it', async function () {
    this.timeout(0)
    const counts = { found: 0, some: 0, refused: 0 }
    await fc.assert(
      fc.asyncProperty(drawn, async ({ items, boxes, data, callers }) => {
        const rules = {
          format: 'pachter-rulebook',
          version: 1,
          model,
          caller: callerOf(model),
          tables: { items, boxes },
        } as Rulebook as Rules<never, never>
        for (const { engine, prisma } of subjects) {
          await load(engine, model, data)
          for (const caller of callers) {
            const scoped = createGuard({ rules, store: engine.store, clock: () => NOW }).as(caller as never)
            for (const table of ['items', 'boxes'] as const) {
              const where = await unless(NotInWhereError, filterOf(prisma, scoped, table))
              counts[where ? 'found' : 'refused'] += 1
              if (!where) continue
              const listed = (await unless(RefusedError, (scoped as unknown as AnyStore).list(table))) ?? []
              const found = await prisma[naming.models[table]]?.findMany({
                where,
                select: { id: true },
                orderBy: { id: 'asc' },
              })
              if (listed.length > 0) counts.some += 1
              const place = () =>
                `${engine.name} ${table} ${shown({ where, caller, data, rules: rules.tables[table] })}`
              const ids = listed.map(({ id }) => id).sort()
              about(place, () => expect(found?.map(({ id }) => Number(id))).to.deep.equal(ids))
            }
          }
        }
      }),
      { numRuns: WORLDS, endOnFailure: true },
    )
    console.log(`      ${counts.found} filters, of which ${counts.some} find something; ${counts.refused} refused`)
    expect(counts.some).to.be.greaterThan(WORLDS)
  })

  it('says nothing where it could not say it exactly', async () => {
    const rules = defineRules(model, defineCaller({ id: integer() }), {
      items: ({ row, caller, table }) => table.ties({ owner: row.ownerId.is(caller.id) }).grants({ read: ['owner'] }),
      boxes: ({ row, table }) => table.ties({ plain: row.word.is('a') }).grants({ read: ['plain'] }),
      people: ({ row, table }) =>
        table
          .ties({ keeper: row.boxes.by('keeperId').some((box) => box.isOpen.is(true)) })
          .grants({ read: ['keeper'] }),
    })
    const told = async (
      { engine, prisma }: Subject,
      table: 'items' | 'boxes' | 'people',
      named: object = naming,
      by: object = rules,
    ) => {
      const scoped = createGuard({ rules: by as typeof rules, store: engine.store }).as({ id: 1 })
      return prismaFilter(prisma, scoped, table, named).then(
        (where) => where as object,
        (error: Error) => error.message,
      )
    }
    const [lite, large] = subjects as [Subject, Subject | undefined]
    expect(await told(lite, 'items')).to.deep.equal({ AND: [{ ownerId: { equals: 1 } }] })
    expect(await told(lite, 'items', {})).to.equal('There is no model of the Prisma client "items".')
    expect(await told(lite, 'items', { models: { items: 'share' } })).to.equal(
      'There is no field of the Prisma client "ownerId" in items.',
    )
    expect(await told(lite, 'people')).to.deep.equal({ AND: [{ kept: { some: { isOpen: { equals: true } } } }] })
    const byText = defineRules(
      defineModel({
        boxes: { id: text().key(), isOpen: boolean() },
        items: { id: integer().key(), boxId: references('boxes') },
      }),
      defineCaller({ id: integer() }),
      { items: ({ row, table }) => table.ties({ open: row.box.isOpen.is(true) }).grants({ read: ['open'] }) },
    )
    expect(await told(lite, 'items', naming, byText)).to.deep.equal({
      AND: [{ box: { is: { isOpen: { equals: true } } } }],
    })
    // What is taken for equal by the database would be by the filter.
    await lite.engine.store.query('CREATE TABLE loose (word TEXT COLLATE NOCASE)', [])
    const loose = { ...lite, prisma: withOther(lite.prisma, 'sqlite') }
    expect(await told(loose, 'boxes')).to.match(
      /say what the rules say of boxes: word is compared, and the database takes/,
    )
    expect(await told(loose, 'items')).to.be.an('object')
    // So would a step be that goes by texts.
    expect(await told(loose, 'items', naming, byText)).to.match(/boxId is compared, and the database takes/)
    await lite.engine.store.query('DROP TABLE loose', [])
    if (large) {
      await load(large.engine, model, { people: [], boxes: [], items: [], shares: [] }, true)
      const odd = { ...large, prisma: withOther(large.prisma, 'postgresql') }
      expect(await told(odd, 'boxes')).to.match(/word is compared, and the database takes/)
      expect(await told(odd, 'items')).to.be.an('object')
    }
    expect(await told({ ...lite, prisma: withOther(lite.prisma, 'mysql') }, 'items')).to.match(
      /on mysql, Prisma compares/,
    )
  })
})

/** A client of which nothing is known yet, and of this database. */
const withOther = (client: Client, provider: string): Client =>
  Object.create(client, { _activeProvider: { value: provider } }) as Client
