// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import { createGuard, inFull, TransactionError } from 'pachter'
import type { SqlStore } from 'pachter/sql'
import { rules, type AnyStore, eva } from './support/allotted.js'
import { each } from './support/holes.js'
import { refusalOf } from './support/korenveld.js'

/** The same database, which inside transactions does not do one kind of statement. */
const broken = (store: SqlStore, statement: RegExp, message: string): SqlStore => ({
  ...store,
  transaction: (work) =>
    store.transaction((connection) =>
      work({
        query: (text, values) =>
          statement.test(text) ? Promise.reject(new Error(message)) : connection.query(text, values),
      }),
    ),
})

describe('an audit found all or none', () => {
  each('(13) an error that the work swallows takes back its own part, or all', async ({ store }) => {
    const guard = createGuard({ rules, store })
    await guard.as(eva).transaction(async (inside) => {
      await inside.update('entries', 2, { title: 'kept' })
      expect(await refusalOf(inside.update('members', 2, { email: 'ana' }))).to.include({ status: 409 })
      await inside.update('entries', 4, { title: 'kept too' })
    })
    const titles = async () => (await guard.as(eva).list('entries')).map(({ title }) => title)
    expect(await titles()).to.deep.equal(['Leeks', 'kept', 'Chard', 'kept too'])
    // Parts that run at the same time take turns.
    await guard
      .as(eva)
      .transaction((inside) =>
        Promise.all([
          inside.updateMany('entries', [1, 2], { title: 'both' }),
          refusalOf(inside.updateMany('entries', [3, 99], { title: 'none' })),
          inside.transaction((part) => part.update('entries', 4, { title: 'part' })),
        ]),
      )
    expect(await titles()).to.deep.equal(['both', 'both', 'Chard', 'part'])
    let kept: unknown
    await guard.as(eva).transaction(async (inside) => void (kept = inside))
    expect(await refusalOf((kept as AnyStore)['update']?.('entries', 1, { title: 'late' }) as never)).to.be.instanceOf(
      TransactionError,
    )
    const mixed = guard
      .as(eva)
      .transaction((outer) => outer.transaction(() => outer.update('entries', 1, { title: 'x' })))
    expect(await refusalOf(mixed)).to.be.instanceOf(TransactionError)
  })

  each('(13) a transaction whose database gave up is not done, whatever its work makes of that', async ({ store }) => {
    const outcome = createGuard({ rules, store: broken(store, /UPDATE/, 'deadlock') })
      .as(eva)
      .transaction(async (inside) => {
        await inside.create('notes', { entryId: 2, rank: 3, body: 'half' })
        await refusalOf(inside.update('entries', 2, { title: 'x' }))
      })
    expect(await refusalOf(outcome)).to.be.instanceOf(TransactionError)
    expect(await createGuard({ rules, store }).as(eva).count('notes')).to.equal(2)
  })

  each('a connection that ends between two statements tells nothing of the server', async ({ store }) => {
    for (const ending of [/^SAVEPOINT/, /^RELEASE/]) {
      const as = createGuard({ rules, store: broken(store, ending, 'lost 10.0.0.7') }).as(eva)
      const error = await refusalOf(as.transaction((inside) => inside.transaction((part) => part.get('entries', 1))))
      expect(error, String(ending)).to.include({ code: 'store-failed', status: 500 })
      expect(`${error.message} ${JSON.stringify(error)} ${String(error.cause)}`).not.to.include('10.0.0.7')
      expect(inFull(error)).to.include('10.0.0.7')
    }
  })
})
