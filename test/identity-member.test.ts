import { expect } from 'chai'
import { createGuard, defineCaller, defineModel, defineRules, integer, text, timestamp, trusted } from 'pachter'
import { openFixture } from 'pachter/check'
import { groupRoles, type IdentityEvent, memberRecord } from 'pachter/identity'
import { rules } from '../examples/allotment/rules.js'
import { surroundings } from './support/surroundings.js'

describe('the caller’s own record', () => {
  const { guardOf } = surroundings()
  const ignored = { note: () => undefined }
  const zeno = { email: 'zeno@korenveld.example', email_verified: true, name: 'Zeno Castel' }
  const member = (keepSeconds = 0) =>
    memberRecord(guardOf(), {
      table: 'members',
      field: 'email',
      claim: 'email',
      keepSeconds,
      caller: ({ id, name }) => (name === 'nobody' ? undefined : { id }),
      firstSignIn: ({ name }) => ({ name: String(name), duties: [], joinedAt: new Date() }),
    })

  it('finds it by an e-mail that was verified, and by nothing else', async () => {
    const ana = { email: 'ana@korenveld.example', email_verified: true }
    expect(await member()(ana, ignored)).to.deep.equal({ id: 1 })
    for (const claims of [
      { ...ana, email_verified: false },
      { email: ana.email },
      {},
      { ...ana, email: [ana.email] },
    ]) {
      expect(await member()(claims, ignored)).to.equal(undefined)
    }
  })

  it('makes it once on the first sign-in, also when many first requests come at a time, and never changes it', async () => {
    const events: IdentityEvent[] = []
    const heard = { note: (event: IdentityEvent) => events.push(event) }
    const all = await Promise.all(Array.from({ length: 20 }, () => member()(zeno, heard)))
    expect(new Set(all.map((each) => JSON.stringify(each)))).to.have.property('size', 1)
    expect(events).to.deep.equal([{ kind: 'record-created', table: 'members', key: all[0] }])
    const id = (all[0] as { id: number }).id
    const mine = guardOf().as(trusted('a test'))
    await mine.update('members', id, { name: 'Z. Castel', duties: ['treasurer'] })
    expect(await member()({ ...zeno, name: 'Another' }, ignored)).to.deep.equal({ id })
    expect(await mine.get('members', id)).to.deep.include({ name: 'Z. Castel', duties: ['treasurer'] })
  })

  it('keeps what it found for as long as was said', async () => {
    const kept = member(300)
    const mine = guardOf().as(trusted('a test'))
    const { id } = (await kept(zeno, ignored)) as { id: number }
    await mine.update('members', id, { name: 'nobody' })
    expect(await kept(zeno, ignored)).to.deep.equal({ id })
    expect(await member()(zeno, ignored)).to.equal(undefined)
    // It is not kept the longer for being asked for.
    await mine.update('members', id, { name: 'Zeno Castel' })
    const briefly = member(0.3)
    for (const name of ['Zeno Castel', 'nobody']) {
      expect(await briefly(zeno, ignored)).to.deep.equal({ id })
      await mine.update('members', id, { name })
      await new Promise((resolve) => setTimeout(resolve, 200))
    }
    expect(await briefly(zeno, ignored)).to.equal(undefined)
  })

  it('does not let back in who is gone, nor makes a second of them', async () => {
    const model = defineModel({
      growers: { id: integer().key().generated(), login: text().unique(), leftAt: timestamp().optional() },
    })
    const caller = defineCaller({ id: integer() })
    const rules = defineRules(model, caller, {
      growers: ({ row, signedIn, table }) => table.grants({ read: [signedIn] }).gone(row.leftAt.isSet()),
    })
    const fixture = await openFixture(model, {
      growers: [
        { id: 1, login: 'ana' },
        { id: 2, login: 'ben', leftAt: new Date('2026-01-01T00:00:00Z') },
      ],
    })
    const guard = createGuard({ rules, store: fixture.store, onDecision: () => undefined })
    const grower = memberRecord(guard, {
      table: 'growers',
      field: 'login',
      claim: 'sub',
      caller: ({ id }) => ({ id }),
      firstSignIn: () => ({}),
    })
    expect(await grower({ sub: 'ana' }, ignored)).to.deep.equal({ id: 1 })
    expect(await grower({ sub: 'ben' }, ignored)).to.equal(undefined)
    expect(await grower({ sub: 'noor' }, ignored)).to.deep.equal({ id: 3 })
    const numbered = memberRecord(guard, { table: 'growers', field: 'id', claim: 'sub', caller: ({ id }) => ({ id }) })
    for (const sub of ['1', 1]) expect(await numbered({ sub }, ignored)).to.deep.equal({ id: 1 })
    for (const sub of ['01', '0x1', '1.0', '1e0', '+1', ' 1', '', true]) {
      expect(await numbered({ sub }, ignored), String(sub)).to.equal(undefined)
    }
    await fixture.close()
  })

  it('gives groups their roles, and tells of those that have none, once each', () => {
    const events: IdentityEvent[] = []
    const heard = { note: (event: IdentityEvent) => events.push(event) }
    const roles = groupRoles(rules, {
      claim: 'groups',
      roles: { money: 'treasurer', board: ['secretary', 'auditor'] },
    })
    expect(roles({ groups: ['money', 'choir', 'board', 7, 'money'] }, heard)).to.deep.equal([
      'treasurer',
      'secretary',
      'auditor',
    ])
    expect(roles({ groups: ['choir', '__proto__', 'constructor'] }, heard)).to.deep.equal([])
    expect(roles({ groups: 'money' }, heard)).to.deep.equal(['treasurer'])
    expect(roles({}, heard)).to.deep.equal([])
    const told = ['choir', '__proto__', 'constructor'].map((group) => ({ kind: 'group-unknown', group }))
    expect(events).to.deep.equal(told)
  })
})
