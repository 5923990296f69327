import { expect } from 'chai'
import mysql from 'mysql2/promise'
import { createGuard, defineCaller, defineModel, defineRules, integer, list, references, text } from 'pachter'
import { mariadbStore } from 'pachter/connect/mariadb'
import { createTables } from 'pachter/sql'
import { refusalOf } from './support/korenveld.js'
import { available, type Server, startCluster } from './support/servers.js'

const model = defineModel({
  members: { id: integer().key(), duties: list(text()) },
  plots: { id: integer().key(), holderId: references('members').optional() },
  entries: { id: integer().key(), plotId: references('plots'), authorId: integer(), title: text() },
  shares: { entryId: references('entries').key(), memberId: references('members').key() },
})
const caller = defineCaller({ id: integer() }, { roles: ['warden'], record: { table: 'members', roles: 'duties' } })
const rules = defineRules(model, caller, {
  entries: ({ row, caller, role, signedIn, table }) =>
    table
      .ties({
        author: row.authorId.is(caller.id),
        shared: row.shares.some((share) => share.memberId.is(caller.id)),
        holder: row.plot.holderId.is(caller.id),
      })
      .grants({ read: [signedIn], update: ['author', 'shared', 'holder', role('warden')] }),
})

/** How each right is withdrawn. */
const WITHDRAWALS = {
  author: 'UPDATE entries SET authorId = 1',
  shared: 'DELETE FROM shares',
  holder: 'UPDATE plots SET holderId = NULL',
  warden: `UPDATE members SET duties = '[]' WHERE id = 2`,
}

const ROUNDS = 2

/** So many records keep a node busy for some hundred milliseconds. */
const NEWS = 40_000

describe('a cluster of two MariaDB servers', function () {
  let nodes: readonly Server[] = []
  let pools: readonly mysql.Pool[] = []

  before(async function () {
    if (!available.cluster && !process.env['CI']) return this.skip()
    nodes = await startCluster()
    pools = nodes.map(({ url }) => mysql.createPool({ uri: url, connectionLimit: 4 }))
  })
  after(async () => {
    for (const pool of pools) await pool.end()
    for (const node of [...nodes].reverse()) await node.stop()
  })

  it('lets a right that was withdrawn on one count for nothing on the other, which has not heard of it', async () => {
    const [here, there] = pools as [mysql.Pool, mysql.Pool]
    const store = mariadbStore(here as never)
    for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
    await here.query('CREATE TABLE news (id INTEGER AUTO_INCREMENT PRIMARY KEY, body TEXT)')
    const as = createGuard({ rules, store }).as({ id: 2 })
    const counted: string[] = []
    for (const [right, withdrawal] of Object.entries(WITHDRAWALS)) {
      for (let round = 0; round < ROUNDS; round += 1) {
        for (const table of Object.keys(model.tables)) await here.query(`DELETE FROM ${table}`)
        await here.query(`INSERT INTO members VALUES (2, '${right === 'warden' ? '["warden"]' : '[]'}')`)
        await here.query(`INSERT INTO plots VALUES (1, ${right === 'holder' ? 2 : 'NULL'})`)
        await here.query(`INSERT INTO entries VALUES (1, 1, ${right === 'author' ? 2 : 1}, 'Leeks')`)
        if (right === 'shared') await here.query('INSERT INTO shares VALUES (1, 2)')
        const connection = await there.getConnection()
        await connection.query('SET SESSION wsrep_sync_wait = 7')
        await connection.query('SELECT 1 FROM entries')
        // What the other node has to store first.
        await connection.query(`INSERT INTO news (body) SELECT repeat('x', 200) FROM seq_1_to_${NEWS}`)
        await connection.query(withdrawal)
        connection.release()
        const refused = await refusalOf(as.update('entries', 1, { title: 'Chard' })).catch(() => undefined)
        if (refused?.name !== 'ForbiddenError') counted.push(right)
      }
    }
    expect(counted).to.deep.equal([])
  })
})
