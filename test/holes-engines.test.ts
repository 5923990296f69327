// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import {
  all,
  any,
  anonymous,
  choice,
  createGuard,
  decide,
  defineCaller,
  defineModel,
  defineRules,
  inFull,
  InputError,
  integer,
  LimitError,
  LIMITS,
  references,
  text,
} from 'pachter'
import type { SqlStore } from 'pachter/sql'
import { model, type AnyStore, caller, AT, rules, data, ana, eva, on, said } from './support/allotted.js'
import { each, mysqlPool, onEach, type Opened } from './support/holes.js'
import { refusalOf } from './support/korenveld.js'

describe('an audit found engines that disagree', () => {
  it('(14) a step inside another leaves the record around it alone', () => {
    const shared = defineRules(model, caller, {
      entries: ({ row, role, table }) =>
        table
          .ties({ tie: row.notes.some((note) => all(role('chair'), note.body.is('first'))) })
          .grants({ read: ['tie'] }),
    })
    const first = { ...data, notes: [{ id: 9, entryId: 1, rank: 1, body: 'last' }] }
    const asked = { caller: eva, action: 'get', table: 'entries', record: data.entries[0] as never } as const
    expect(decide(shared, { ...asked, data: first }).allowed).to.equal(false)
    expect(
      decide(shared, { ...asked, data: { ...first, notes: [{ id: 9, entryId: 1, rank: 1, body: 'first' }] } }).allowed,
    ).to.equal(true)
  })

  const kept = async (store: SqlStore, year: string) =>
    refusalOf(on(store, eva)['update']?.('entries', 2, { createdAt: new Date(year) }) as never)

  each('(15) no moment is from after the year 9999', async ({ store }) => {
    expect(await kept(store, '+010000-01-01T00:00:00Z')).to.be.instanceOf(InputError)
  })

  each('(44) no moment is from before the year 1000, and those from then on are as they were', async ({ store }) => {
    const as = on(store, eva)
    for (const year of ['0001-01-01T00:00:00Z', '-000001-01-01T00:00:00Z'])
      expect(await kept(store, year)).to.be.instanceOf(InputError)
    for (const edge of ['9999-12-31T23:59:59.999Z', '1000-01-01T00:00:00.000Z']) {
      await as['update']?.('entries', 2, { createdAt: new Date(edge) })
      const found = (await as['list']?.('entries', {
        where: (row: never) => (row as { createdAt: { is(at: Date): unknown } }).createdAt.is(new Date(edge)),
      })) as { createdAt: Date }[]
      expect(found.map(({ createdAt }) => createdAt.toISOString())).to.deep.equal([edge])
    }
  })

  each('(16) moments finer than a millisecond are met, paged, and sent back', async ({ store, finer }) => {
    await finer('entries', 'createdAt')
    const guard = createGuard({ rules, store: { ...store } })
    const found = await guard.as(eva).list('entries', { where: (row) => row.createdAt.is(AT) })
    expect(found).to.have.length(4)
    for (const orderBy of ['createdAt', 'createdAt descending'] as const) {
      const paged: number[] = []
      for await (const { id } of guard.as(eva).stream('entries', { orderBy, batch: 1 })) paged.push(id)
      expect(paged).to.deep.equal([1, 2, 3, 4])
    }
    const entry = await guard.as(eva).get('entries', 2)
    expect(entry.createdAt).to.deep.equal(AT)
    expect(await guard.as(eva).update('entries', 2, entry)).to.deep.equal(entry)
    expect(
      await guard.as(eva).count('entries', { where: (row) => any(row.createdAt.above(AT), row.createdAt.below(AT)) }),
    ).to.equal(0)
  })

  each('(17) texts in lists are equal however JSON writes them', async ({ store, raw }) => {
    const odd = 'b\n\u0001é'
    await on(store, eva)['update']?.('entries', 2, { tags: [odd] })
    const count = () =>
      on(store, eva)['count']?.('entries', {
        where: (row: never) => (row as { tags: { includes(tag: string): unknown } }).tags.includes(odd),
      })
    expect(await count()).to.equal(1)
    if (store.dialect.name !== 'postgresql') {
      await raw(
        `UPDATE entries SET tags = '["${store.dialect.name === 'mariadb' ? '\\\\' : '\\'}u0062${store.dialect.name === 'mariadb' ? '\\\\' : '\\'}n${store.dialect.name === 'mariadb' ? '\\\\' : '\\'}u0001${store.dialect.name === 'mariadb' ? '\\\\' : '\\'}u00e9"]' WHERE id = 4`,
      )
      expect(await count()).to.equal(2)
    }
  })

  each(
    '(18) a collation that holds texts to be equal does not make them so',
    async ({ store, raw }) => {
      await raw(
        `CREATE COLLATION IF NOT EXISTS loosely (provider = icu, locale = 'und-u-ks-level2', deterministic = false)`,
      )
      await raw(`ALTER TABLE entries ALTER COLUMN title TYPE text COLLATE loosely`)
      const guard = createGuard({ rules, store: { ...store } })
      const count = (title: string) => guard.as(eva).count('entries', { where: (row) => row.title.is(title) })
      expect([await count('leeks'), await count('Leeks')]).to.deep.equal([0, 1])
      expect(await guard.as(eva).count('entries', { where: (row) => row.title.oneOf(['LEEKS', 'Kale']) })).to.equal(1)
      expect(await guard.as(eva).count('entries', { where: (row) => row.title.startsWith('Le') })).to.equal(1)
      await guard.as(eva).update('entries', 1, { title: 'LEEKS' })
      expect((await guard.as(eva).get('entries', 1)).title).to.equal('LEEKS')
    },
    ['PostgreSQL'],
  )

  /** A table of somebody else's, where even the key may be missing. */
  async function loose({ store, raw }: Opened, work: (as: AnyStore) => Promise<void>): Promise<void> {
    const q = store.dialect.identifier
    const number = store.dialect.name === 'sqlite' ? 'INTEGER' : 'bigint'
    await raw(`CREATE TABLE loose (id ${number}, code ${number}, ${q('upId')} ${number})`)
    await raw('INSERT INTO loose VALUES (NULL, 9, NULL), (1, NULL, NULL), (2, 5, 1), (3, 1, 2)')
    const tree = defineModel({
      loose: { id: integer().key().generated(), code: integer().optional(), upId: references('loose').optional() },
    })
    const ruled = defineRules(tree, defineCaller({ id: integer() }), {
      loose: ({ row, table }) =>
        table
          .ties({ coded: row.up.code.isSet(), parent: row.loose.some((child) => child.code.is(9)) })
          .grants({ read: ['coded'], create: ['parent'] })
          .conflicts('told'),
    })
    try {
      await work(on(store, ana, ruled))
    } finally {
      await raw('DROP TABLE loose')
    }
  }

  each('(19) a missing value refers to nothing, and nothing to it', (opened) =>
    loose(opened, async (as) => {
      for (const form of ['walk', 'scan', 'gather']) {
        const found = (await as['list']?.('loose', { form })) as { id: number }[]
        expect(found.map(({ id }) => id)).to.deep.equal([3])
      }
      expect(await said(as['get']?.('loose', 1) as never)).to.include({ status: 404 })
    }),
  )

  each('(40) a record without a key of its own is nobody’s parent', (opened) =>
    loose(opened, async (as) => {
      expect(await said(as['create']?.('loose', { code: 1 }) as never)).to.include({ status: 403 })
    }),
  )

  const last = defineRules(model, caller, {
    entries: ({ row, signedIn, table }) =>
      table.grants({ read: [signedIn], delete: [signedIn], update: [signedIn] }).denies({
        last: {
          on: ['delete', 'update'],
          when: row.author.entries.none((other) => all(other.id.isNot(row.id), other.status.is('open'))),
          message: 'The last one stays.',
        },
      }),
  })

  each('(20) what one update of many leaves, the next finds', async ({ store }) => {
    const outcome = (await on(store, eva, last)['updateMany']?.(
      'entries',
      [2, 4],
      { status: 'done' },
      {
        partly: true,
      },
    )) as { written: { id: number }[]; refused: unknown[] }
    const written = outcome.written.map(({ id }) => id)
    expect([written, outcome.refused.length]).to.deep.equal([[2], 1])
  })

  each('(37) many deletes are as one after another', async ({ store }) => {
    const together = await refusalOf(on(store, eva, last)['deleteMany']?.('entries', [2, 4]) as never)
    const message = 'This may be written, but not together with the others.'
    const refusals = [2, 4].map((key) => ({ key, status: 409, message }))
    expect(together).to.deep.include({ code: 'bulk-refused', refusals })
    expect(inFull(together)).to.include('After the others before it, 4 was refused: You may not delete this record')
    const outcome = (await on(store, eva, last)['deleteMany']?.('entries', [2, 4], { partly: true })) as {
      written: unknown[]
      refused: unknown[]
    }
    expect([outcome.written, outcome.refused.length]).to.deep.equal([[2], 1])
  })

  each('(45) nobody updates many in part, and keys differ in case', async ({ store }) => {
    const update = on(store, anonymous)['updateMany']?.('entries', [1, 2], { title: 'x' }, { partly: true })
    expect((await said(update as never)).status).to.equal(401)
    const cased = defineModel({ kinds: { id: choice('draft', 'Draft').key(), name: text() } })
    const kinds = ['draft', 'Draft'].map((id) => ({ id, name: id }))
    await onEach(
      cased,
      { kinds },
      async (opened) => {
        const all = await opened.raw('SELECT id FROM kinds')
        expect((all as { rows: unknown[] }).rows).to.have.length(2)
      },
      [store.dialect.name === 'mariadb' ? 'MariaDB' : 'none'],
    )
  })

  /** The guard on a pool of MariaDB, where an entry has very many notes. */
  const noted = async ({ store, raw, pool }: Opened) => {
    const q = store.dialect.identifier
    await raw('DELETE FROM notes')
    await raw(
      `INSERT INTO notes (id, ${q('entryId')}, ${q('rank')}, body) SELECT seq, 2, 1, REPEAT('x', 40) FROM seq_1_to_70000`,
    )
    return createGuard({ rules, store: mysqlPool(pool) })
  }

  each(
    '(21) related records come all',
    async (opened) => {
      const guard = await noted(opened)
      const { notes } = await guard.as(eva).get('entries', 2, { with: { notes: true } })
      expect(notes).to.have.length(70_000)
      // Or it is told, to the byte: two notes about as long together as the longest list.
      await opened.raw('DELETE FROM notes WHERE id > 2')
      const outcomes = new Set<string>()
      for (const letter of ['x', '🌱'])
        for (let less = -4; less <= 60; less += 4) {
          const times = Math.floor((LIMITS.relatedBytes - 2 * less) / 2 / Buffer.byteLength(letter))
          await opened.raw(`UPDATE notes SET body = REPEAT('${letter}', ${times})`)
          const found = await guard
            .as(eva)
            .get('entries', 2, { with: { notes: true } })
            .catch((error: Error) => error)
          outcomes.add(found.constructor.name)
          if (found instanceof Error) expect(found).to.be.instanceOf(LimitError)
          else
            expect(found.notes.map(({ body }) => body?.length)).to.deep.equal([1, 2].map(() => times * letter.length))
        }
      expect([...outcomes].sort()).to.deep.equal(['LimitError', 'Object'])
    },
    ['MariaDB'],
  )

  each(
    '(23) or not at all, also to many at the same time',
    async (opened) => {
      const guard = await noted(opened)
      const notesOf = async () => (await guard.as(eva).get('entries', 2, { with: { notes: true } })).notes.length
      expect(await Promise.all([notesOf(), notesOf(), notesOf()])).to.deep.equal([70_000, 70_000, 70_000])
      await opened.raw(`UPDATE notes SET body = REPEAT('x', 400)`)
      const over = await Promise.all([1, 2, 3, 4].map(() => refusalOf(notesOf())))
      for (const error of over) expect(error).to.be.instanceOf(LimitError)
      expect((await guard.as(eva).get('entries', 2, { with: { notes: { limit: 5 } } })).notes).to.have.length(5)
    },
    ['MariaDB'],
  )
})
