import { expect } from 'chai'
import mysql from 'mysql2/promise'
import pg from 'pg'
import {
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  list,
  PachterError,
  references,
  text,
} from 'pachter'
import type { Connection, SqlStore } from 'pachter/sql'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { engineNames, load, openEngines } from './support/engines.js'

/** How many meetings of each kind, for each isolation level that a pool is set up with. */
const MEETINGS = Number(process.env['PACHTER_MEETINGS'] ?? 25)

/** From the number of a plot to that of the one around it. */
const OUTER = 1_000_000

const model = defineModel({
  members: { id: integer().key(), duties: list(text()) },
  plots: {
    id: integer().key(),
    holderId: references('members').optional(),
    insideId: references('plots').optional(),
  },
  entries: { id: integer().key(), plotId: references('plots'), title: text(), audience: text() },
  shares: { entryId: references('entries').key(), memberId: references('members').key() },
  notes: { id: integer().key().generated(), entryId: references('entries'), body: text() },
})
const caller = defineCaller(
  { id: integer() },
  { roles: ['warden', 'keeper'], record: { table: 'members', roles: 'duties' } },
)
const rules = defineRules(model, caller, {
  plots: ({ signedIn, table }) => table.grants({ read: [signedIn] }),
  entries: ({ row, caller, role, signedIn, table }) =>
    table
      .ties({
        shared: row.shares.some((share) => share.memberId.is(caller.id)),
        holder: row.plot.holderId.is(caller.id),
        above: row.plot.inside.chain('insideId').some((plot) => plot.holderId.is(caller.id)),
      })
      .grants({ read: [signedIn], update: ['shared', 'holder', 'above', role('warden')], delete: [signedIn] })
      .denies({ noted: { on: 'delete', when: row.notes.some(), message: 'What has notes stays.' } }),
  notes: ({ row, table, signedIn }) =>
    table
      .ties({ open: row.entry.audience.is('open') })
      .grants({ read: [signedIn], create: ['open'], update: ['open'] }),
})

/** One kind of meeting: what the other transaction holds and withdraws, and what is written meanwhile. */
interface Kind {
  readonly who: number
  hold(other: Connection, entry: number): Promise<unknown>
  withdraw(other: Connection, entry: number): Promise<unknown>
  write(as: ReturnType<ReturnType<typeof guardOn>['as']>, entry: number): Promise<unknown>
  /** Whether what was written is there. */
  wrote(connection: Connection, entry: number): Promise<boolean>
}

const guardOn = (store: SqlStore) => createGuard({ rules, store })

const pools: Readonly<
  Record<string, Readonly<Record<string, (url: string) => { store: SqlStore; end(): Promise<void> }>>>
> = {
  PostgreSQL: Object.fromEntries(
    ['read committed', 'repeatable read', 'serializable'].map((level) => [
      level,
      (connectionString: string) => {
        const pool = new pg.Pool({
          connectionString,
          max: 6,
          options: `-c default_transaction_isolation=${level.replace(' ', '\\ ')}`,
        })
        return { store: postgresqlStore(pool), end: () => pool.end() }
      },
    ]),
  ),
  MariaDB: Object.fromEntries(
    ['READ COMMITTED', 'REPEATABLE READ', 'SERIALIZABLE'].map((level) => [
      level,
      (uri: string) => {
        const pool = mysql.createPool({ uri, connectionLimit: 6 })
        pool.on('connection', (connection) => void connection.query(`SET SESSION TRANSACTION ISOLATION LEVEL ${level}`))
        return { store: mariadbStore(pool as never), end: () => pool.end() }
      },
    ]),
  ),
}

for (const name of engineNames.filter((each) => each in pools)) {
  for (const [level, open] of Object.entries(pools[name] ?? {})) {
    describe(`writes that meet others on ${name}, connections at ${level}`, () => {
      let store: SqlStore
      let end: () => Promise<void>
      let entry = 0
      const q = (id: string) => store.dialect.identifier(id)
      const run = (connection: Connection, text: string) => Promise.resolve(connection.query(text, []))
      const title = async (connection: Connection, id: number) =>
        (await run(connection, `SELECT title FROM entries WHERE id = ${id}`)).rows[0]?.['title'] === 'by them'
      const update: Kind['write'] = (as, id) => as.update('entries', id, { title: 'by them' })
      const locked: Kind['hold'] = (other, id) => run(other, `SELECT id FROM entries WHERE id = ${id} FOR UPDATE`)
      const touched: Kind['hold'] = (other, id) => run(other, `UPDATE entries SET title = 'touched' WHERE id = ${id}`)
      const unshare: Kind['withdraw'] = (other, id) => run(other, `DELETE FROM shares WHERE ${q('entryId')} = ${id}`)
      const note = async (connection: Connection, id: number) =>
        (await run(connection, `SELECT id FROM notes WHERE ${q('entryId')} = ${id} AND body = 'by them'`)).rows.length >
        0
      const close: Kind['withdraw'] = (other, id) =>
        run(other, `UPDATE entries SET audience = 'closed' WHERE id = ${id}`)
      const add: Kind['write'] = (as, id) => as.create('notes', { entryId: id, body: 'by them' })

      const kinds: Readonly<Record<string, Kind>> = {
        'a share withdrawn under a lock': { who: 2, hold: locked, withdraw: unshare, write: update, wrote: title },
        'a share withdrawn with a change': { who: 2, hold: touched, withdraw: unshare, write: update, wrote: title },
        'a role taken away under a lock': {
          who: 3,
          hold: locked,
          withdraw: (other) =>
            run(
              other,
              `UPDATE members SET duties = ${store.dialect.name === 'postgresql' ? `'{}'` : `'[]'`} WHERE id = 3`,
            ),
          write: update,
          wrote: title,
        },
        'a parent handed over under a lock': {
          who: 4,
          hold: locked,
          withdraw: (other, id) => run(other, `UPDATE plots SET ${q('holderId')} = NULL WHERE id = ${id}`),
          write: update,
          wrote: title,
        },
        'a chain cut under a lock': {
          who: 5,
          hold: locked,
          withdraw: (other, id) => run(other, `UPDATE plots SET ${q('insideId')} = NULL WHERE id = ${OUTER + id}`),
          write: update,
          wrote: title,
        },
        'a create under a parent that is locked': { who: 2, hold: locked, withdraw: close, write: add, wrote: note },
      }

      before(async () => {
        const engine = (await openEngines()).find((each) => each.name === name)
        const opened = open(engine?.url ?? '')
        ;({ store, end } = opened)
        const members = [2, 3, 4, 5].map((id) => ({ id, duties: [] }))
        await load({ name, store, close: end }, model, { members })
        const key = `FOREIGN KEY (${q('entryId')}) REFERENCES entries (id) ON DELETE CASCADE`
        await store.query(`ALTER TABLE notes ADD ${key}`, [])
      })
      after(async () => {
        await store.query('DROP TABLE notes', [])
        await end()
      })

      async function prepared(): Promise<number> {
        entry += 1
        const warden = store.dialect.name === 'postgresql' ? `'{warden}'` : `'["warden"]'`
        // A plot in a plot in one that another member holds.
        await store.query(`INSERT INTO plots VALUES (${2 * OUTER + entry}, 5, NULL)`, [])
        await store.query(`INSERT INTO plots VALUES (${OUTER + entry}, NULL, ${2 * OUTER + entry})`, [])
        await store.query(`INSERT INTO plots VALUES (${entry}, 4, ${OUTER + entry})`, [])
        await store.query(`INSERT INTO entries VALUES (${entry}, ${entry}, 'Leeks', 'open')`, [])
        await store.query(`INSERT INTO shares VALUES (${entry}, 2)`, [])
        await store.query(`UPDATE members SET duties = ${warden} WHERE id = 3`, [])
        return entry
      }

      for (const kind of [
        'a share withdrawn under a lock',
        'a share withdrawn with a change',
        'a role taken away under a lock',
        'a parent handed over under a lock',
        'a chain cut under a lock',
        'a create under a parent that is locked',
      ]) {
        it(`${MEETINGS} with ${kind}: nothing is written without right`, async function () {
          this.timeout(0)
          const { who, hold, withdraw, write, wrote } = kinds[kind] as Kind
          const outcomes: Record<string, number> = {}
          for (let round = 0; round < MEETINGS; round += 1) {
            const id = await prepared()
            const other = store.transaction(async (connection) => {
              await hold(connection, id)
              const first = await wrote(connection, id)
              if (round % 2) await new Promise((resolve) => setTimeout(resolve, round % 5))
              await withdraw(connection, id)
              return first
            })
            await new Promise((resolve) => setTimeout(resolve, round % 4))
            const [held, written] = await Promise.allSettled([other, write(guardOn(store).as({ id: who }), id)])
            // Whoever writes after the other took its lock finds the right gone.
            if (held.status === 'fulfilled' && !held.value) {
              expect(await wrote(store, id), `${kind}, round ${round}`).to.equal(false)
            }
            const outcome = written.status === 'fulfilled' ? 200 : (written.reason as { status?: number }).status
            outcomes[String(outcome)] = (outcomes[String(outcome)] ?? 0) + 1
          }
          expect(Object.keys(outcomes).filter((each) => !['200', '403', '409'].includes(each))).to.deep.equal([])
          expect(outcomes['403'] ?? 0, JSON.stringify(outcomes)).to.be.greaterThan(0)
        })
      }

      it(`${MEETINGS} of a removal with what forbids it: no note that was stored is lost`, async function () {
        this.timeout(0)
        for (let round = 0; round < MEETINGS; round += 1) {
          const id = await prepared()
          const noted = store.transaction(async (other) => {
            await run(other, `INSERT INTO notes (${q('entryId')}, body) VALUES (${id}, 'by others')`)
            if (round % 2) await new Promise((resolve) => setTimeout(resolve, round % 4))
          })
          await new Promise((resolve) => setTimeout(resolve, round % 3))
          const [added, removed] = await Promise.allSettled([noted, guardOn(store).as({ id: 2 }).delete('entries', id)])
          const { rows } = await store.query(`SELECT id FROM notes WHERE ${q('entryId')} = ${id}`, [])
          if (added.status === 'fulfilled') expect(rows, `round ${round}`).to.have.length(1)
          if (removed.status === 'rejected') expect(removed.reason).to.be.instanceOf(PachterError)
        }
      })
    })
  }
}
