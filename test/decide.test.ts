import { expect } from 'chai'
import {
  all,
  anonymous,
  type Data,
  decide,
  decider,
  defineCaller,
  defineRules,
  integer,
  not,
  readRulebook,
  type Rulebook,
} from 'pachter'
import { callers } from '../examples/allotment/callers.js'
import { readData } from '../examples/allotment/database.js'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { NOW } from './support/korenveld.js'
import { data, model, packet } from './support/packets.js'

const caller = defineCaller({ id: integer() }, { roles: ['keeper', 'guest'] })
const rules = defineRules(model, caller, {
  packets: ({ row, caller, role, anyone, signedIn, table }) =>
    table
      .ties({
        owner: row.ownerId.is(caller.id),
        stranger: not(row.ownerId.is(caller.id)),
        open: row.state.is('open'),
      })
      .grants({
        read: [
          { to: 'owner', fields: ['ownerId', 'state', 'label'] },
          { to: 'open', fields: ['label'] },
          role('keeper'),
        ],
        create: [
          { to: 'owner', fields: ['id', 'ownerId', 'state', 'label'] },
          { to: signedIn, fields: ['label'] },
        ],
        update: [
          { to: 'owner', fields: ['label', 'secret'] },
          { to: 'owner', fields: ['ownerId'], after: row.ownerId.isSet() },
          { to: role('keeper'), fields: ['state'], when: row.state.is('open') },
        ],
        delete: [{ to: 'stranger', when: all() }, anyone],
      })
      .denies({
        sealed: { on: ['delete', 'read'], when: row.state.is('sealed'), except: ['owner'], message: 'Sealed.' },
      })
      // Nobody sees people, to whom packets are given all the same.
      .conflicts('told'),
})
const ask = (who: object, action: 'get' | 'create' | 'update' | 'delete', record?: object, values?: object) =>
  decide(rules, {
    caller: who,
    action,
    table: 'packets',
    data,
    ...(record && { record: record as never }),
    ...(values && { values: values as never }),
  })

describe('decide', () => {
  it('says through which tie and grant', () => {
    const verdict = ask({ id: 7 }, 'update', packet, { label: 'Dill' })
    expect(verdict).to.include({ allowed: true, status: 200, seen: true })
    expect(verdict.grants[0]?.to).to.deep.equal([{ who: 'owner', condition: 'row.ownerId is caller.id', holds: true }])
  })

  it('once prepared, decides about each record as if it were alone', () => {
    const verdictOn = decider(rules, { caller: { id: 7 }, action: 'update', table: 'packets', data })
    for (const ownerId of [7, 8, 7, null]) {
      for (const values of [undefined, { label: 'Dill' }, { ownerId: 8 }, { label: 'Dill', ownerId: 7 }]) {
        const record = { ...packet, ownerId }
        expect(verdictOn(record, values)).to.deep.equal(ask({ id: 7 }, 'update', record, values))
      }
    }
    expect(verdictOn({ ...packet, ownerId: 7 }).allowed).to.equal(true)
    expect(verdictOn({ ...packet, ownerId: 8 }).allowed).to.equal(false)
  })

  it('passes the same verdicts in whatever order it is asked, and lets nobody change one', async () => {
    const stored = (await readData()) as Data
    const asked = Object.values(callers).flatMap((caller) =>
      Object.entries(stored).flatMap(([table, records]) =>
        records.flatMap((record) =>
          ['get', 'update', 'delete'].map((action) => ({ caller, table, action, record, data: stored, now: NOW })),
        ),
      ),
    )
    const [one, other] = [0, 1].map(() => readRulebook(JSON.stringify(korenveld))) as [Rulebook, Rulebook]
    const verdicts = asked.map((each) => decide(one, each))
    const backwards = asked.toReversed().map((each) => decide(other, each))
    expect(backwards.reverse()).to.deep.equal(verdicts)
    expect(new Set(verdicts.map(({ status }) => status)).size).to.equal(4)
    const passed = verdicts.find(({ grants }) => grants.length > 0) as object
    expect(() => Object.assign(passed, { allowed: true })).to.throw(TypeError)
  })

  it('is closed by default, at once where nothing could open it', () => {
    expect(decide(rules, { caller: { id: 7 }, action: 'get', table: 'people', data, record: { id: 7 } })).to.include({
      status: 403,
      message: 'You may not see records of people.',
    })
    expect(() => decide(rules, { caller: { id: 7 }, action: 'get', table: 'persons', data })).to.throw(
      /no table "persons"/,
    )
  })

  it('takes a missing value for neither equal nor unequal to anything but its negation', () => {
    const ownerless = { ...packet, ownerId: null }
    expect(ask({ id: 7 }, 'update', ownerless, { label: 'x' }).status).to.equal(403)
    expect(ask({ id: 7 }, 'delete', ownerless).grants[0]).to.deep.include({ holds: true })
  })

  it('lets a deny beat all grants, except for who is exempt', () => {
    const sealed = { ...packet, state: 'sealed' }
    expect(ask({ id: 8, roles: ['keeper'] }, 'get', sealed)).to.include({ allowed: false, status: 404 })
    expect(ask({ id: 7 }, 'get', sealed)).to.include({ allowed: true })
    expect(ask({ id: 7 }, 'delete', sealed)).to.include({ allowed: true })
  })

  it('has a write need sight', () => {
    expect(ask({ id: 8 }, 'delete', { ...packet, state: 'sealed' })).to.include({ status: 404, seen: false })
    expect(ask({ id: 8 }, 'delete', packet)).to.include({ allowed: true })
  })

  it('asks the grant of the record before and after, or what `after` asks instead', () => {
    expect(ask({ id: 7 }, 'update', packet, { ownerId: 8 })).to.include({ allowed: true })
    expect(ask({ id: 7 }, 'update', packet, { ownerId: null }).fields).to.deep.equal({
      ownerId: 'may not get this value from you',
    })
    const sealing = ask({ id: 8, roles: ['keeper'] }, 'update', packet, { state: 'sealed' })
    expect(sealing.fields).to.have.keys('state')
  })

  it('takes a visible value sent back as no change, and refuses a hidden one all the same', () => {
    expect(ask({ id: 8, roles: ['keeper'] }, 'update', packet, { label: 'Chervil', state: 'open' }).allowed).to.equal(
      true,
    )
    // An owner does not see the secret: had sending it back been accepted, it could be guessed.
    const guess = decide(
      defineRules(model, caller, {
        packets: ({ row, caller, table }) =>
          table
            .ties({ owner: row.ownerId.is(caller.id) })
            .grants({ read: [{ to: 'owner', fields: ['label'] }], update: [{ to: 'owner', fields: ['label'] }] }),
      }),
      {
        caller: { id: 7 },
        action: 'update',
        table: 'packets',
        data,
        record: packet,
        values: { label: 'Chervil', secret: 'under the pot' },
      },
    )
    expect(guess.fields).to.deep.equal({ secret: 'is not yours to set' })
    // Where a reference leads that is left as it is, the caller was told before.
    const untold = defineRules(model, caller, {
      packets: ({ row, caller, table }) =>
        table
          .ties({ owner: row.ownerId.is(caller.id) })
          .grants({ read: ['owner'], update: [{ to: 'owner', after: row.ownerId.isSet() }] }),
    })
    const given = (ownerId: number) =>
      decide(untold, {
        caller: { id: 7 },
        action: 'update',
        table: 'packets',
        data,
        record: packet,
        values: { ownerId },
      })
    expect(given(7)).to.include({ allowed: true })
    expect(given(8).invalid).to.deep.equal({ ownerId: 'leads to no record that you see' })
  })

  it('asks every field of a create of a grant that holds', () => {
    const values = { id: 2, ownerId: 7, state: 'open', label: 'Dill' }
    expect(ask({ id: 7 }, 'create', undefined, values).allowed).to.equal(true)
    expect(ask({ id: 8 }, 'create', undefined, values).fields).to.have.keys('id', 'ownerId', 'state')
  })

  it('looks at what a stamp sets, even if that is nothing, and never at what is sent for it', () => {
    const stamped = defineRules(model, caller, {
      packets: ({ row, caller, anyone, table }) =>
        table
          .grants({ read: [anyone], create: [{ to: anyone, when: not(row.owner.name.is('Ana')) }] })
          .stamps({ create: { ownerId: caller.id } }),
    })
    const known = { ...data, people: [{ id: 7, name: 'Ana' }] }
    const told = ([7, 8] as const).map((ownerId) => {
      const values = { id: 2, ownerId, state: 'open', label: 'Dill' }
      const asked = { caller: anonymous, action: 'create', table: 'packets', data: known, values } as const
      return decide(stamped, asked).message
    })
    expect(told[0]).to.equal(told[1]).and.to.include('ownerId is set by the server')
  })

  it('tells of a check that rests on hidden records whom it alone stops', () => {
    const few = defineRules(model, caller, {
      packets: ({ row, anyone, table }) =>
        table
          .grants({ read: [{ to: anyone, fields: ['label', 'state'] }], create: [anyone], update: [anyone] })
          .conflicts('told')
          .checks(
            {},
            {
              known: { that: row.owner.name.isSet(), message: 'belongs to nobody that is known', fields: ['ownerId'] },
              open: { that: row.state.is('open'), message: 'has to be open', fields: ['state'] },
            },
          ),
    })
    const given = { id: 2, ownerId: 9, state: 'open', label: 'Dill', secret: null }
    const wrong = (action: 'create' | 'update', values: object) => {
      try {
        const record = action === 'update' ? { record: { ...packet, ...given, ownerId: 8 } } : {}
        return decide(few, { caller: { id: 7 }, action, table: 'packets', data, values: values as never, ...record })
      } catch (error) {
        return { invalid: (error as { readonly fields: object }).fields }
      }
    }
    const nobody = { ownerId: 'belongs to nobody that is known' }
    const [closed, long] = [{ state: 'has to be open' }, { label: 'must be text' }]
    expect(wrong('create', given).invalid).to.deep.equal(nobody)
    expect(wrong('create', { ...given, state: 'sealed' }).invalid).to.deep.equal(closed)
    expect(wrong('create', { ...given, label: 1 }).invalid).to.deep.equal(long)
    expect(wrong('update', { ownerId: 9 }).invalid).to.deep.equal(nobody)
    expect(wrong('update', { ownerId: 9, state: 'sealed' }).invalid).to.deep.equal(closed)
    expect(wrong('update', { ownerId: 9, state: 'sealed', label: 1 }).invalid).to.deep.equal({ ...closed, ...long })
    const verdict = wrong('create', { ...given, state: 'sealed' })
    expect('failed' in verdict && verdict.failed.map(({ name, told }) => [name, told])).to.deep.equal([
      ['known', false],
      ['open', true],
    ])
  })

  it('allows nothing that a check fails, also one that names no field', () => {
    const whole = defineRules(model, caller, {
      packets: ({ row, anyone, table }) =>
        table
          .grants({ read: [anyone], create: [anyone], update: [anyone] })
          .conflicts('told')
          .checks({}, { open: { that: row.state.is('open'), message: 'is closed', fields: [] } }),
    })
    for (const asked of [{ action: 'create' }, { action: 'update', record: packet }] as const) {
      const values = { id: 1, state: 'sealed', ...(asked.action === 'create' && { label: 'Dill' }) }
      const verdict = decide(whole, { caller: { id: 7 }, table: 'packets', data, values, ...asked })
      expect(verdict, asked.action).to.deep.include({ allowed: false, status: 422, invalid: { values: 'is closed' } })
    }
  })

  it('sends nobody to sign in where that would not help', () => {
    expect(ask(anonymous, 'get', undefined).status).to.equal(401)
    expect(ask(anonymous, 'get', { ...packet, state: 'sealed' }).status).to.equal(401)
    const open = defineRules(model, caller, {
      packets: ({ row, table }) => table.ties({ open: row.state.is('open') }).grants({ read: ['open'] }),
    })
    const asked = { caller: anonymous, action: 'get', table: 'packets', data } as const
    expect(decide(open, { ...asked, record: { ...packet, state: 'sealed' } }).status).to.equal(404)
    expect(decide(open, { ...asked, record: packet }).status).to.equal(200)
  })
})
