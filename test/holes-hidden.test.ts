// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import { anonymous, any, defineRules, inFull, trusted, verdictOf } from 'pachter'
import { model, caller, AT, rules, data, ana, ben, eva, on, said } from './support/allotted.js'
import { each } from './support/holes.js'
import { refusalOf } from './support/korenveld.js'

describe('an audit found hidden things told', () => {
  each('(5) a hidden reference leads nowhere, either way', async ({ store }) => {
    const [kale] = (await on(store, ben)['list']?.('entries', {
      where: (row: never) => (row as { id: { is(id: number): unknown } }).id.is(2),
      with: { author: true },
    })) as [{ author: unknown }]
    expect(kale.author).to.equal(null)
    const open = {
      ...rules,
      tables: {
        ...rules.tables,
        members: { ...rules.tables['members'], grants: { read: [{ to: [{ kind: 'always' }], fields: ['email'] }] } },
      },
    }
    const [found] = (await on(store, ben, open)['list']?.('entries', {
      where: (row: never) => (row as { id: { is(id: number): unknown } }).id.is(2),
      with: { author: true },
    })) as [{ author: unknown }]
    expect(found.author).to.equal(null)
    const members = (await on(store, ben, open)['list']?.('members', { with: { entries: true } })) as {
      entries: unknown[]
    }[]
    expect(members.map(({ entries }) => entries.length)).to.deep.equal([0, 0, 0])
  })

  each('(6) related records are not sorted by what is hidden', async ({ store }) => {
    const of = (await on(store, ben)['list']?.('entries', { with: { notes: { orderBy: 'rank' } } })) as {
      id: number
      notes: { id: number }[]
    }[]
    expect(of.find(({ id }) => id === 2)?.notes.map(({ id }) => id)).to.deep.equal([1, 2])
    const seen = (await on(store, eva)['list']?.('entries', { with: { notes: { orderBy: 'rank' } } })) as typeof of
    expect(seen.find(({ id }) => id === 2)?.notes.map(({ id }) => id)).to.deep.equal([2, 1])
  })

  each(
    '(7) keys, unique values and references of hidden records are as those that are not there',
    async ({ store }) => {
      const as = on(store, ana)
      const entry = (id: number) => ({
        id,
        authorId: 1,
        title: 'x',
        secret: null,
        status: 'open',
        createdAt: AT,
        tags: [],
      })
      for (const method of ['create', 'upsert']) {
        expect(await said(as[method]?.('entries', entry(3)) as never)).to.deep.equal(
          await said(as[method]?.('entries', entry(77)) as never),
        )
      }
      const email = (address: string) => said(as['create']?.('members', { email: address, duties: [] }) as never)
      expect(await email('eva')).to.deep.equal(await email('nobody'))
      const changed = (address: string) => said(as['update']?.('members', 1, { email: address }) as never)
      expect(await changed('eva')).to.deep.equal(await changed('nobody'))
      const note = (entryId: number) => said(as['create']?.('notes', { entryId, rank: 1, body: 'x' }) as never)
      expect(await note(3)).to.deep.equal(await note(77))
      expect(await note(3)).to.include({ status: 422 })
      // Unless the rules say that it may be told.
      const told = {
        ...rules,
        tables: { ...rules.tables, entries: { ...rules.tables['entries'], conflicts: 'told' } },
      }
      expect(await said(on(store, ana, told)['create']?.('entries', entry(3)) as never)).to.include({ status: 409 })
    },
  )

  each('(8) a deny tells who is let and sees why', async ({ store }) => {
    const generic = 'ForbiddenError: You may not delete this record of entries.'
    expect((await said(on(store, eva)['delete']?.('members', 77) as never)).status).to.equal(404)
    // No grant lets ben delete, whatever the status.
    expect((await said(on(store, ben)['delete']?.('entries', 2) as never)).text).to.equal(generic)
    // Ana does not see her salary: that it keeps her from leaving is told, that it is the salary is not.
    expect((await said(on(store, ana)['delete']?.('members', 1) as never)).text).to.equal(
      'ForbiddenError: You may not delete this record of members.',
    )
    const guess = (salary: number) => said(on(store, ana)['update']?.('members', 1, { salary }) as never)
    expect(await guess(100)).to.deep.equal(await guess(99))
    const mine = { ...data.entries[0], id: 5, status: 'done' }
    await on(store, trusted('test'))['create']?.('entries', mine)
    expect((await said(on(store, ana)['delete']?.('entries', 5) as never)).text).to.equal(
      'ForbiddenError: Done is done.',
    )
    // Ben sees that it is done, and is no author.
    const seen = defineRules(model, caller, {
      entries: ({ row, caller, signedIn, table }) =>
        table
          .ties({ author: row.authorId.is(caller.id) })
          .grants({ read: [signedIn], delete: ['author'] })
          .denies({ done: { on: 'delete', when: row.status.is('done'), message: 'Done is done.' } }),
    })
    expect((await said(on(store, ben, seen)['delete']?.('entries', 3) as never)).text).to.equal(generic)
    expect((await said(on(store, eva, seen)['delete']?.('entries', 3) as never)).text).to.equal(
      'ForbiddenError: Done is done.',
    )
  })

  each('(8) nor by a reference that is hidden, or a guess beside another change', async ({ store }) => {
    const sealed = defineRules(model, caller, {
      members: ({ signedIn, table }) => table.grants({ read: [signedIn] }),
      entries: ({ row, changed, signedIn, table }) =>
        table.grants({ read: [{ to: signedIn, fields: ['title'] }], update: [signedIn], delete: [signedIn] }).denies({
          kept: { on: 'update', when: changed('secret'), message: 'Kept.' },
          hers: { on: 'delete', when: any(row.author.email.is('ana'), row.secret.isSet()), message: 'Hers.' },
        }),
    })
    const as = on(store, ben, sealed)
    const removed = (id: number) => said(as['delete']?.('entries', id) as never)
    expect(await removed(1)).to.deep.equal(await removed(2))
    const guess = (secret: string) => said(as['update']?.('entries', 2, { secret, title: 'New' }) as never)
    expect(await guess('b')).to.deep.equal(await guess('c'))
    expect(await guess('b')).to.include({ status: 403 })
  })

  each('(9) an error holds what its caller may know, in order', async ({ store }) => {
    const error = await refusalOf(on(store, ben)['update']?.('entries', 3, { title: 'x' }) as never)
    expect(Object.keys(error)).not.to.include('verdict')
    expect(JSON.stringify(error)).not.to.match(/deny|done|author/i)
    expect(verdictOf(error)?.denies[0]?.name).to.equal('done')
    // Two who are told the same of one they see, whatever the rules compare with.
    const open = await refusalOf(on(store, eva)['update']?.('members', 2, { id: 9 }) as never)
    expect(open.message).not.to.include('sesame')
    expect((await refusalOf(on(store, { id: 2 })['delete']?.('entries', 2) as never)).message).not.to.match(
      /author|role|where/,
    )
    const wrong = { title: 5, status: 'x', nowhere: 1 }
    expect((await said(on(store, anonymous)['create']?.('entries', wrong) as never)).status).to.equal(401)
    expect((await said(on(store, ben)['update']?.('entries', 3, wrong) as never)).status).to.equal(404)
    expect((await said(on(store, ben)['update']?.('entries', 2, wrong) as never)).status).to.equal(403)
    expect((await said(on(store, eva)['update']?.('entries', 2, wrong) as never)).status).to.equal(422)
    const unknown = await refusalOf(on(store, ben)['list']?.('entries', { fields: ['salary'] }) as never)
    expect(unknown).to.include({ status: 400, message: 'There is no field "salary" in entries.' })
    expect(inFull(unknown)).to.include('known: id, authorId')
  })

  it('(10) asFor keeps what limits the action it stands for', () => {
    const { tables } = defineRules(model, caller, {
      entries: ({ row, signedIn, table }) =>
        table.grants({
          list: [{ to: signedIn, fields: ['title'] }],
          get: [{ asFor: 'list' }],
          update: [{ to: signedIn, fields: ['title'], after: row.status.is('open') }],
          delete: [{ asFor: 'update' }],
        }),
    })
    expect(tables['entries']?.grants['get']).to.deep.equal(tables['entries']?.grants['list'])
    expect(tables['entries']?.grants['delete']?.[0]).to.have.property('after')
  })

  each('(11) what the database says stays with the developer', async ({ store }) => {
    const conflict = await refusalOf(on(store, eva)['update']?.('members', 2, { email: 'ana' }) as never)
    expect(conflict).to.include({ code: 'conflict', status: 409 })
    const whole = `${conflict.message} ${JSON.stringify(conflict)} ${String(conflict.cause)} ${Object.values(conflict).join()}`
    expect(whole).not.to.match(/unique|constraint|duplicate|email|key/i)
    expect(inFull(conflict)).to.match(/unique|duplicate/i)
  })
})
