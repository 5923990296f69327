import { expect } from 'chai'
import mysql from 'mysql2/promise'
import { all, createGuard, defineCaller, defineModel, defineRules, integer, list, text, trusted } from 'pachter'
import { mariadbStore } from 'pachter/connect/mariadb'
import type { SqlStore } from 'pachter/sql'
import { type Engine, openEngines, undoable } from './support/engines.js'

const model = defineModel({
  labels: {
    id: integer().key(),
    ownerId: integer(),
    readerId: integer().optional(),
    text: text(),
    size: integer().optional(),
    code: text().optional(),
    secret: text().optional(),
    by: text().optional(),
    words: list(text()).optional(),
  },
})

/** Nobody may store what is called `hidde`. */
const rules = defineRules(model, defineCaller({ id: integer(), name: text() }), {
  labels: ({ row, caller, table }) =>
    table
      .conflicts('told')
      .ties({
        owner: all(row.ownerId.is(caller.id), row.text.isNot('hidde')),
        reader: row.readerId.is(caller.id),
      })
      .grants({
        read: [{ to: ['owner', 'reader'], fields: ['ownerId', 'readerId', 'text', 'size', 'code', 'by', 'words'] }],
        create: [{ to: 'owner', fields: ['id', 'ownerId', 'text', 'size', 'code', 'words'] }],
        update: [{ to: 'owner', fields: ['text', 'size', 'code', 'words'] }],
      })
      .stamps({ create: { by: caller.name }, update: { by: caller.name } }),
})

const [most, blank, large] = [
  'must have at most 5 characters',
  'must not end in a blank',
  'must all be such as can be stored',
]
/** What columns do not hold as it is, what is held in its place, and what is said of it. Blanks databases cut off in silence, whatever they are told. */
const MISFITS: readonly (readonly [field: string, value: unknown, fits: unknown, problem: string])[] = [
  ['text', 'hiddenly', 'peas', most],
  ['text', 'hidde     ', 'peas', most],
  ['text', 'peas      ', 'peas', most],
  ['code', 'ana ', 'ana', blank],
  ['code', 'ana and ben', 'ana', most],
  ['size', 99_999, 9, large],
  ['size', 7, 9, large],
  ['secret', 'peas      ', 'peas', most],
  ['words', ['peas', 'leek  '], ['peas'], `has an item that ${most}`],
]

/** Who writes, and to which record: an own one, one that is seen, one that is hidden, one that is not there. */
const WRITERS = [
  [1, 1],
  [2, 1],
  [1, 2],
  [1, 9],
] as const

describe('what a column does not hold as it is', () => {
  /** A guard on labels, in columns that are narrower than their fields. */
  async function labels({ store: { dialect, query } }: Engine, given: SqlStore) {
    const [owner, reader, by] = ['ownerId', 'readerId', 'by'].map((name) => dialect.identifier(name))
    await query('DROP TABLE IF EXISTS labels', [])
    await query(
      `CREATE TABLE labels (id int PRIMARY KEY, ${owner} int NOT NULL, ${reader} int, text varchar(5) NOT NULL, size smallint CHECK (size <> 7), code char(5), secret varchar(5), ${by} char(5), words ${dialect.name === 'postgresql' ? 'varchar(5)[]' : 'text'})`,
      [],
    )
    await query(
      "INSERT INTO labels VALUES (1, 1, 2, 'beans', 1, 'a', 's', 'ana', NULL), (2, 3, 3, 'leek', 1, 'a', 's', 'eva', NULL)",
      [],
    )
    const { store, undone } = undoable(given)
    return { guard: createGuard({ rules, store, onDecision: () => undefined }), undone }
  }

  it('is refused as whatever else would be, and is told of only where that could be written', async () => {
    for (const engine of await openEngines()) {
      const { name, url } = engine
      // SQLite's columns hold whatever no check forbids.
      const holdsAll = engine.store.dialect.name === 'sqlite'
      const narrow = MISFITS.filter(([field]) => field !== 'words' || engine.store.dialect.name === 'postgresql')
      const misfits = holdsAll ? MISFITS.filter(([, value]) => value === 7) : narrow
      const pool = name === 'MariaDB' ? mysql.createPool({ uri: url as string }) : undefined
      // A session that stores what it can, in silence.
      pool?.pool.on('connection', (connection) => void connection.query(`SET SESSION sql_mode = ''`))
      // A copy knows nothing yet of the database's columns.
      const { guard, undone } = await labels(engine, pool ? mariadbStore(pool as never) : { ...engine.store })
      const everything = guard.as(trusted('what is there'))
      const before = await everything.list('labels')
      const outcomes = { refused: 0, told: 0 }
      for (const [field, value, fits, problem] of misfits) {
        for (const [id, key] of WRITERS) {
          const scoped = guard.as({ id, name: 'ana' }) as never as AnyStore
          const fresh = { id: 5, ownerId: key, text: 'kale' }
          const writes: Readonly<Record<string, (given: unknown) => Promise<unknown>>> = {
            update: (given) => scoped.update('labels', key, { [field]: given }),
            'update inside': (given) =>
              scoped.transaction((inside) => inside.update('labels', key, { [field]: given })),
            'update of many': (given) => scoped.updateMany('labels', [key], { [field]: given }),
            create: (given) => scoped.create('labels', { ...fresh, [field]: given }),
            'create of many': (given) => scoped.createMany('labels', [{ ...fresh, [field]: given }]),
          }
          for (const [what, write] of Object.entries(writes)) {
            const place = `${what} of ${field} ${JSON.stringify(value)}, ${key} as ${id}, ${name}`
            const wanted = await undone(() => outcome(write(fits)))
            const found = await outcome(write(value))
            if (wanted) expect(found, place).to.deep.equal(wanted)
            else expect(found?.message, place).to.contain(problem)
            expect(found?.status, place).to.equal(wanted?.status ?? 422)
            outcomes[wanted ? 'refused' : 'told'] += 1
          }
        }
      }
      const settable = misfits.filter(([field]) => field !== 'secret')
      expect(outcomes).to.deep.equal({ refused: 20 * misfits.length - 5 * settable.length, told: 5 * settable.length })
      if (!holdsAll) {
        // What the server sets is not told of, and not cut either: this would be ana's.
        const tooLong = guard.as({ id: 1, name: 'ana ' })
        const stamped = await outcome(tooLong.update('labels', 1, { text: 'peas' }))
        expect(stamped, name).to.include({ status: 422 })
        expect(stamped?.message).to.match(/: by is set to what cannot be stored as it is\.$/)
      }
      expect(await everything.list('labels'), name).to.deep.equal(before)
      await pool?.end()
      await engine.store.query('DROP TABLE labels', [])
    }
  })

  it('of others is not told of where it keeps a record from being removed', async () => {
    for (const engine of await openEngines()) {
      // MariaDB has no such reference.
      if (engine.name === 'MariaDB') continue
      const { guard } = await labels(engine, engine.store)
      const makes = [
        'marks (label int NOT NULL REFERENCES labels ON DELETE SET NULL)',
        'pins (label int REFERENCES labels)',
      ]
      for (const [at, table] of makes.entries()) {
        await engine.store.query(`CREATE TABLE ${table}`, [])
        await engine.store.query(`INSERT INTO ${table.split(' ')[0]} VALUES (${at + 1})`, [])
      }
      const everything = guard.as(trusted('what is there'))
      const [missing, referred] = await Promise.all([1, 2].map((id) => outcome(everything.delete('labels', id))))
      expect(missing, engine.name).to.include({ status: 409 })
      expect(missing, engine.name).to.deep.equal(referred)
      for (const table of ['marks', 'pins', 'labels']) await engine.store.query(`DROP TABLE ${table}`, [])
    }
  })
})

/** Any write of a table whose fields are not known here. */
interface AnyStore {
  update(...given: unknown[]): Promise<unknown>
  updateMany(...given: unknown[]): Promise<unknown>
  create(...given: unknown[]): Promise<unknown>
  createMany(...given: unknown[]): Promise<unknown>
  transaction(work: (inside: AnyStore) => Promise<unknown>): Promise<unknown>
}

/** What a write is refused with; nothing where it is done. */
const outcome = (done: Promise<unknown>): Promise<{ status: number; message: string } | undefined> =>
  done.then(
    () => undefined,
    ({ status, message }: { status: number; message: string }) => ({ status, message }),
  )
