import { expect } from 'chai'
import mysql from 'mysql2/promise'
import pg from 'pg'
import type { RefusedError } from 'pachter'
import { createGuard, inFull, trusted } from 'pachter'
import type { Connection, SqlStore } from 'pachter/sql'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

const { ana, ben } = callers

/** How long a statement has until it surely waits for the lock in its way. */
const WAITS = 150

/** So few connections that one never given back is soon missed, and statements that time out. */
const pools: Readonly<Record<string, (url: string) => { store: SqlStore; busy(): number; end(): Promise<void> }>> = {
  PostgreSQL: (connectionString) => {
    const pool = new pg.Pool({ connectionString, max: 3, statement_timeout: 2_000 })
    return { store: postgresqlStore(pool), busy: () => pool.totalCount - pool.idleCount, end: () => pool.end() }
  },
  MariaDB: (uri) => {
    const pool = mysql.createPool({ uri, connectionLimit: 3 })
    const { pool: inner } = pool as unknown as { pool: { _allConnections: unknown[]; _freeConnections: unknown[] } }
    pool.on('connection', (connection) => void connection.query('SET SESSION max_statement_time = 2'))
    const busy = () => inner._allConnections.length - inner._freeConnections.length
    return { store: mariadbStore(pool as never), busy, end: () => pool.end() }
  },
}

for (const name of engineNames.filter((each) => each in pools)) {
  describe(`requests at the same time on ${name}`, () => {
    let pool: ReturnType<NonNullable<(typeof pools)[string]>>
    let entry: number
    const store = () => pool.store
    const q = (id: string) => store().dialect.identifier(id)
    const as = (caller: typeof ana) => createGuard({ rules, store: store() }).as(caller)
    const script = () => createGuard({ rules, store: store(), onDecision: () => undefined }).as(trusted('test'))
    const change = `UPDATE entries SET title = 'moved on' WHERE id = `

    before(async () => {
      const engine = (await openEngines()).find((each) => each.name === name)
      pool = (pools[name] as (typeof pools)[string])(engine?.url ?? '')
      await load({ name, store: store(), close: pool.end }, model, await readData())
    })
    after(() => pool.end())

    // Ana's own, on a plot of nobody she knows, and Ben may edit it: his right hangs on the share alone.
    beforeEach(async () => {
      entry = 5_000 + Math.floor(Math.random() * 1e9)
      const values = { id: entry, plotId: 25, authorId: 1, audience: 'private', title: 'Shared', body: '…' } as const
      await script().create('entries', { ...values, createdAt: new Date() })
      await script().create('entryShares', { entryId: entry, memberId: 2, level: 'edit' })
    })

    const title = async () => (await script().get('entries', entry)).title

    /** Lets a write begin while another transaction holds the record, and that end only then. */
    async function whileHeld<T>(
      hold: (other: Connection) => Promise<unknown>,
      write: () => Promise<T>,
    ): Promise<PromiseSettledResult<T>> {
      let done: Promise<PromiseSettledResult<T>[]> | undefined
      await store().transaction(async (other) => {
        await hold(other)
        done = Promise.allSettled([write()])
        await new Promise((resolve) => setTimeout(resolve, WAITS))
      })
      const [result] = (await done) as [PromiseSettledResult<T>]
      return result
    }

    it('a share withdrawn before the write came to its turn gives no right', async () => {
      const withdraw = async (other: Connection) => {
        await other.query(`${change}${entry}`, [])
        await other.query(`DELETE FROM ${q('entryShares')} WHERE ${q('entryId')} = ${entry}`, [])
      }
      const result = await whileHeld(withdraw, () => as(ben).update('entries', entry, { title: 'by ben' }))
      expect(result).to.have.nested.property('reason.status', 404)
      expect(await title()).to.equal('moved on')
    })

    it('an owner who gave the record away meanwhile is an owner no more', async () => {
      const give = (other: Connection) =>
        Promise.resolve(other.query(`UPDATE entries SET ${q('authorId')} = 9 WHERE id = ${entry}`, []))
      const writes: (() => Promise<unknown>)[] = [
        () => as(ana).update('entries', entry, { title: 'by ana' }),
        () => as(ana).delete('entries', entry),
      ]
      for (const write of writes) {
        await script().update('entries', entry, { authorId: 1 })
        expect(await whileHeld(give, write)).to.have.nested.property('reason.status', 404)
      }
      expect(await title()).to.equal('Shared')
    })

    it('of two deletes one removes the record, and the other finds none', async () => {
      await script().delete('entryShares', { entryId: entry, memberId: 2 })
      const twice = await Promise.allSettled([as(ana).delete('entries', entry), as(ana).delete('entries', entry)])
      const statuses = twice.map((each) => (each.status === 'fulfilled' ? 204 : (each.reason as RefusedError).status))
      expect(statuses.sort()).to.deep.equal([204, 404])
    })

    it('however they meet, nothing is written without right', async () => {
      const outcomes: Record<string, number> = {}
      for (let round = 0; round < 60; round += 1) {
        await script().update('entries', entry, { title: 'Shared' })
        await script().upsert('entryShares', { entryId: entry, memberId: 2, level: 'edit' })
        const withdraw = store().transaction(async (other) => {
          await other.query(`${change}${entry}`, [])
          if (round % 2) await new Promise((resolve) => setTimeout(resolve, round % 7))
          await other.query(`DELETE FROM ${q('entryShares')} WHERE ${q('entryId')} = ${entry}`, [])
        })
        await new Promise((resolve) => setTimeout(resolve, round % 3))
        const write = as(ben).update('entries', entry, { title: 'by ben' })
        const [, result] = await Promise.allSettled([withdraw, write])
        const status = result.status === 'fulfilled' ? 200 : (result.reason as RefusedError).status
        outcomes[status] = (outcomes[status] ?? 0) + 1
        // Whoever wrote last had the right to: Ben never after his share was gone.
        expect(await title()).to.equal('moved on')
      }
      console.log(`      Ben's writes by status: ${JSON.stringify(outcomes)}`)
      expect(Object.keys(outcomes).every((status) => ['200', '404'].includes(status))).to.equal(true)
    })

    it('errors, timeouts and cancelled queries give every connection back', async () => {
      const held = (write: () => Promise<unknown>, meanwhile: () => Promise<unknown>) =>
        store().transaction(async (other) => {
          await other.query(`${change}${entry}`, [])
          const outcome = refusalOf(write())
          await new Promise((resolve) => setTimeout(resolve, WAITS))
          await meanwhile()
          return outcome
        })
      const cancel = async () => {
        if (name === 'PostgreSQL') {
          await store().query(`SELECT pg_cancel_backend(pid) FROM pg_stat_activity WHERE wait_event_type = 'Lock'`, [])
          return
        }
        const find = `SELECT id FROM information_schema.PROCESSLIST WHERE info LIKE 'UPDATE%'`
        for (const { id } of (await store().query(find, [])).rows) await store().query(`KILL QUERY ${String(id)}`, [])
      }
      const write = () => as(ana).update('entries', entry, { title: 'late' })
      const inside = () => as(ana).transaction((store) => store.update('entries', entry, { title: 'late' }))
      for (const each of [write, inside]) expect(inFull(await held(each, cancel))).to.match(/cancel|interrupt/)
      for (const each of [write, inside]) {
        expect(inFull(await held(each, () => new Promise((resolve) => setTimeout(resolve, 2_200))))).to.match(
          /timeout|max_statement_time/,
        )
      }
      for (let times = 0; times < 20; times += 1) {
        await refusalOf(as(ben).delete('entries', entry))
        await refusalOf(as(ben).deleteMany('entries', [entry, 999_999]))
        await refusalOf(script().create('entryShares', { entryId: entry, memberId: 2, level: 'view' }))
        await refusalOf(as(ana).transaction(async () => Promise.reject(new Error('changed my mind'))))
      }
      expect(pool.busy()).to.equal(0)
      expect(await title()).to.equal('moved on')
    })
  })
}
