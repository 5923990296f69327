import { execFile } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { promisify } from 'node:util'
import { expect } from 'chai'
import pg from 'pg'
import { createGuard, defineCaller, defineModel, defineRules, integer, text } from 'pachter'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { available, type Server, startPostgresql } from './support/servers.js'
import { hasPgbouncer, startPgbouncer } from './support/pgbouncer.js'

const run = promisify(execFile)
const pooled = fileURLToPath(new URL('support/pooled.ts', import.meta.url))

const model = defineModel({ beds: { id: integer().key(), crop: text(), notes: text() } })
const seeing = (crop: string) =>
  defineRules(model, defineCaller({ id: integer() }), {
    // As many values, and another text: under the other's name it would run.
    beds: ({ row, table }) =>
      table.ties({ own: crop === 'kale' ? row.crop.startsWith(crop) : row.crop.is(crop) }).grants({ read: ['own'] }),
  })

const isHere = available.postgresql && (hasPgbouncer || process.env['CI'] !== undefined)

;(isHere ? describe : describe.skip)('shared connections to PostgreSQL', () => {
  let server: Server
  let admin: pg.Pool
  before(async () => {
    server = await startPostgresql()
    admin = new pg.Pool({ connectionString: server.url })
    await admin.query('DROP TABLE IF EXISTS beds')
    await admin.query('CREATE TABLE beds (id bigint PRIMARY KEY, crop text, notes text)')
    await admin.query(
      `INSERT INTO beds SELECT i, CASE WHEN i <= 10 THEN 'leeks' ELSE 'kale' END, 'x' FROM generate_series(1, 20) i`,
    )
  })
  after(async () => {
    await admin.query('DROP TABLE beds')
    await admin.end()
    await server.stop()
  })

  it('serve two stores with different rules on one pool', async () => {
    const pool = new pg.Pool({ connectionString: server.url, max: 2 })
    const stores = ['leeks', 'kale'].map((crop) => ({
      crop,
      as: createGuard({ rules: seeing(crop), store: postgresqlStore(pool) }).as({ id: 1 }),
    }))
    for (let round = 0; round < 20; round += 1) {
      const found = await Promise.all(stores.map(({ as }) => as.list('beds')))
      found.forEach((beds, at) =>
        expect(new Set(beds.map(({ crop }) => crop))).to.deep.equal(new Set([stores[at]?.crop])),
      )
    }
    const { rows } = await pool.query(`SELECT name FROM pg_prepared_statements WHERE name LIKE 'pachter%'`)
    expect(rows.length).to.be.greaterThan(0)
    await pool.end()
  })

  it('behind a pooler serve two processes with different rules, connections killed under them', async function () {
    this.timeout(120_000)
    const bouncer = await startPgbouncer(server.url, 3)
    try {
      const running = Promise.all(
        ['leeks', 'kale'].map(async (crop) => {
          const { stdout } = await run(process.execPath, ['--import', 'tsx', pooled, bouncer.url, crop, '150'])
          return JSON.parse(stdout) as { answered: number; failed: number; wrong: number }
        }),
      )
      let isOver = false
      const killing = (async () => {
        while (!isOver) {
          await new Promise((resolve) => setTimeout(resolve, 60))
          await admin.query(
            `SELECT pg_terminate_backend(pid) FROM (SELECT pid FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND query LIKE '%beds%' ORDER BY random() LIMIT 1) x`,
          )
        }
      })()
      const outcomes = await running.finally(() => (isOver = true))
      await killing
      console.log(`      ${JSON.stringify(outcomes)}`)
      for (const { answered, wrong } of outcomes) {
        expect(wrong).to.equal(0)
        expect(answered).to.be.greaterThan(300)
      }
    } finally {
      await bouncer.stop()
    }
  })
})
