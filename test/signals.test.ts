import type { Socket } from 'node:net'
import { expect } from 'chai'
import mysql from 'mysql2/promise'
import pg from 'pg'
import { createGuard, defineCaller, defineModel, defineRules, integer, text } from 'pachter'
import { mariadbStore } from 'pachter/connect/mariadb'
import { postgresqlStore } from 'pachter/connect/postgresql'
import type { Decision } from 'pachter/guard'
import type { SqlStore } from 'pachter/sql'
import { type Engine, engineNames, load, openEngines } from './support/engines.js'

const model = defineModel({ beds: { id: integer().key(), crop: text() } })
const rules = defineRules(model, defineCaller({ id: integer() }), {
  beds: ({ table, signedIn }) =>
    table.grants({
      read: [signedIn],
      create: [{ to: [signedIn], fields: ['id', 'crop'] }],
      update: [{ to: [signedIn], fields: ['crop'] }],
    }),
})
const reason = new Error('The client is gone.')

/** What comes of a call: the reason it was called off for, where it was. */
const settled = (call: Promise<unknown>): Promise<unknown> => call.catch((error: unknown) => error)

for (const [at, name] of engineNames.entries()) {
  describe(`signals on ${name}`, () => {
    let engine: Engine
    const calledOff = (signal: AbortSignal, store: SqlStore = engine.store, told: Decision[] = []) =>
      createGuard({ rules, store, onDecision: (decision) => told.push(decision) }).as({ id: 1 }, { signal })
    before(async () => {
      engine = (await openEngines())[at] as Engine
      await load(engine, model, { beds: [1, 2].map((id) => ({ id, crop: 'leeks' })) })
    })

    it('end every call before it begins', async () => {
      const told: Decision[] = []
      const mine = calledOff(AbortSignal.abort(reason), engine.store, told)
      const calls = [
        mine.list('beds'),
        mine.get('beds', 1),
        mine.count('beds'),
        mine.exists('beds'),
        mine.stream('beds').next(),
        mine.create('beds', { id: 9, crop: 'kale' }),
        mine.createMany('beds', [{ id: 9, crop: 'kale' }]),
        mine.update('beds', 1, { crop: 'kale' }),
        mine.updateMany('beds', [1, 2], { crop: 'kale' }),
        mine.upsert('beds', { id: 1, crop: 'kale' }),
        mine.verdict('beds', 'update', 1),
        mine.transaction(async () => 'done'),
      ]
      for (const [at, ended] of (await Promise.all(calls.map(settled))).entries())
        expect(ended, `call ${at}`).to.equal(reason)
      expect(
        new Set(told.filter(({ method }) => !['stream', 'verdict'].includes(method)).map(({ outcome }) => outcome)),
      ).to.deep.equal(new Set(['aborted']))
    })

    it('take back a transaction up to its last moment', async () => {
      const controller = new AbortController()
      const ended = await settled(
        calledOff(controller.signal).transaction(async (inside) => {
          await inside.update('beds', 1, { crop: 'kale' })
          controller.abort(reason)
        }),
      )
      expect(ended).to.equal(reason)
      expect(await calledOff(new AbortController().signal).get('beds', 1)).to.include({ crop: 'leeks' })
    })

    it('leave a write that was done as it is, and have it told', async () => {
      const controller = new AbortController()
      const store: SqlStore = {
        ...engine.store,
        query: async (statement, values, signal) => {
          const outcome = await engine.store.query(statement, values, signal)
          if (/^(?:INSERT|UPDATE)/.test(statement)) controller.abort(reason)
          return outcome
        },
      }
      expect(await calledOff(controller.signal, store).update('beds', 2, { crop: 'chard' })).to.include({
        crop: 'chard',
      })
      expect(controller.signal.aborted).to.equal(true)
      await calledOff(new AbortController().signal).update('beds', 2, { crop: 'leeks' })
    })

    if (name !== 'PostgreSQL' && name !== 'MariaDB') return

    it('are not what ends a write whose connection breaks: whether it was done is not claimed', async () => {
      const held = await holding(name, engine.url as string)
      const mine = createGuard({ rules, store: held.store, onDecision: () => undefined }).as({ id: 1 })
      try {
        await mine.list('beds')
        await held.begin()
        const alone = settled(mine.update('beds', 1, { crop: 'kale' }))
        while ((await engine.store.query(held.waits, [])).rows.length === 0) await new Promise(setImmediate)
        held.cut()
        expect(await alone).to.include({ code: 'store-failed', message: 'The database did not answer.' })
        await held.end()
        // A transaction is not done without its end.
        const together = settled(
          mine.transaction(async (inside) => {
            await inside.create('beds', { id: 7, crop: 'leeks' })
            held.cut()
            await inside.update('beds', 2, { crop: 'kale' })
          }),
        )
        expect(await together).to.include({ code: 'store-failed', message: 'The database did not do this.' })
        expect(await mine.list('beds', { where: (bed) => bed.id.is(7) })).to.deep.equal([])
        while ((await mine.get('beds', 1)).crop !== 'leeks') await mine.update('beds', 1, { crop: 'leeks' })
      } finally {
        await held.close()
      }
    })

    it('cancel what runs on the server, and nothing that comes after', async () => {
      const held = await holding(name, engine.url as string)
      try {
        for (const ask of [
          (mine: ReturnType<typeof calledOff>) => mine.list('beds'),
          (mine: ReturnType<typeof calledOff>) => mine.update('beds', 1, { crop: 'kale' }),
          (mine: ReturnType<typeof calledOff>) =>
            mine.transaction(async (inside) => {
              await inside.create('beds', { id: 3, crop: 'kale' })
              await inside.update('beds', 1, { crop: 'kale' })
            }),
        ]) {
          await held.begin()
          const controller = new AbortController()
          const call = settled(ask(calledOff(controller.signal, held.store)))
          while ((await engine.store.query(held.waits, [])).rows.length === 0) await new Promise(setImmediate)
          controller.abort(reason)
          // It ends while the lock it waits for is still held.
          expect(await call).to.equal(reason)
          await held.end()
        }
        const free = calledOff(new AbortController().signal, held.store)
        expect(await free.list('beds')).to.deep.equal([1, 2].map((id) => ({ id, crop: 'leeks' })))
        // Called off about when the statement ends: whatever comes next on the connection must not be the one that is hit.
        for (let round = 0; round < 60; round += 1) {
          const controller = new AbortController()
          const call = settled(Promise.resolve(held.store.query(held.sleep, [0.02], controller.signal)))
          await new Promise((resolve) => setTimeout(resolve, 8 + round / 5))
          controller.abort(reason)
          await call
          for (const { rows } of await Promise.all([0.02, 0.02].map((each) => held.store.query(held.sleep, [each]))))
            expect(rows).to.have.nested.property('[0].slept', held.slept)
        }
      } finally {
        await held.close()
      }
    })
  })
}

/** A small pool, and somebody who holds the table that its statements need. */
async function holding(name: string, url: string) {
  if (name === 'MariaDB') {
    const pool = mysql.createPool({ uri: url, connectionLimit: 2 })
    const holder = await mysql.createConnection({ uri: url })
    const sockets: Socket[] = []
    pool.on('connection', (each) => sockets.push((each as unknown as { stream: Socket }).stream))
    const waits = `SELECT 1 FROM information_schema.processlist WHERE state LIKE 'Waiting for table%'`
    return {
      store: mariadbStore(pool as never),
      begin: () => holder.query('LOCK TABLES beds WRITE'),
      waits,
      // A sleep that is cancelled says 1.
      sleep: 'SELECT SLEEP(?) AS slept',
      slept: 0,
      end: () => holder.query('UNLOCK TABLES'),
      cut: () => sockets.forEach((each) => each.destroy()),
      close: async () => Promise.all([pool.end(), holder.end()]),
    }
  }
  // All connections of the pool may be busy: it is cancelled through another.
  const pool = new pg.Pool({ connectionString: url, max: 1 })
  const holder = new pg.Client({ connectionString: url })
  const sockets: Socket[] = []
  pool.on('connect', (each) => sockets.push((each as unknown as { connection: { stream: Socket } }).connection.stream))
  // Of connections that break while nobody uses them.
  pool.on('error', () => undefined)
  await holder.connect()
  const waits = `SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock'`
  return {
    store: postgresqlStore(pool),
    begin: async () => {
      await holder.query('BEGIN')
      await holder.query('LOCK TABLE beds')
    },
    waits,
    sleep: 'SELECT pg_sleep($1)::text AS slept',
    slept: '',
    end: () => holder.query('ROLLBACK'),
    cut: () => sockets.forEach((each) => each.destroy()),
    close: async () => Promise.all([pool.end(), holder.end()]),
  }
}
