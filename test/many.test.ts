import { expect } from 'chai'
import fc from 'fast-check'
import {
  all,
  anonymous,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  references,
  text,
  trusted,
} from 'pachter'
import { parseKey, printKey } from 'pachter/model'
import {
  countForMany,
  coverage,
  everyoneIn,
  explain,
  type Fixture,
  mutantsOf,
  openExpectations,
  openFixture,
  openWorkbench,
  reachOfAll,
  recordExpectations,
  runFile,
  seeTable,
  TooManyRecordsError,
} from 'pachter/check'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { refusalOf } from './support/korenveld.js'

const model = defineModel({
  members: { id: integer().key(), name: text() },
  tools: { id: integer().key(), ownerId: references('members').optional(), name: text() },
  loans: { toolId: references('tools').key(), day: text().key(), memberId: references('members') },
})
const rules = defineRules(model, defineCaller({ id: integer() }, { roles: ['warden'] }), {
  tools: ({ row, caller, anyone, role, table }) =>
    table
      .ties({ owner: row.ownerId.is(caller.id), lender: row.loans.some((loan) => loan.memberId.is(caller.id)) })
      .grants({ read: [anyone], create: [role('warden')], update: ['owner', 'lender', role('warden')] }),
  members: ({ anyone, table }) => table.grants({ read: [anyone] }),
  // What is lent out is told to a box nobody can look into.
  loans: ({ signedIn, table }) => table.grants({ create: [signedIn] }),
})

const TOOLS = 450
const named = (id: number) => ({ id, name: `Tool ${id}`, ownerId: id % 100 === 1 ? 1 : null })
const callers = { nobody: anonymous, ana: { id: 1 }, warden: { id: 2, roles: ['warden'] } } as const

describe('many records, and odd ones', () => {
  let fixture: Fixture
  const bench = () => openWorkbench({ rules, callers, store: fixture.store, titles: { tools: 'name' } })
  before(async () => {
    fixture = await openFixture(model, {
      members: [1, 2].map((id) => ({ id, name: `Member ${id}` })),
      tools: Array.from({ length: TOOLS }, (_, at) => named(at + 1)),
    })
  })
  beforeEach(() => fixture.begin())
  afterEach(() => fixture.undo())
  after(() => fixture.close())

  it('counts a record once that leads to a caller twice', async () => {
    const lent = defineRules(model, defineCaller({ id: integer() }), {
      tools: ({ row, caller, table }) =>
        table.ties({ lender: row.loans.some((loan) => loan.memberId.is(caller.id)) }).grants({ read: ['lender'] }),
    })
    const { store, close } = await openFixture(model, {
      members: [1, 2].map((id) => ({ id, name: `Member ${id}` })),
      tools: [named(1), named(2)],
      loans: ['monday', 'tuesday'].map((day) => ({ toolId: 1, day, memberId: 1 })),
    })
    const opened = openWorkbench({ rules: lent, callers: { ana: { id: 1 }, ben: { id: 2 } }, store })
    expect([...(await countForMany(opened, 'tools', ['ana', 'ben']))]).to.deep.equal([
      ['ana', 1],
      ['ben', 0],
    ])
    expect(() => everyoneIn(lent)).to.throw(/Add everyone: \{ table: 'members' \} to the configuration/)
    const { reaches } = await reachOfAll(opened, everyoneIn(lent, { table: 'members' }), ['tools'])
    expect(reaches.map(({ key, own }) => [key, own])).to.deep.equal([
      ['1', 1],
      ['2', 0],
    ])
    await close()
  })

  it('shows what differs wherever it is, page by page', async () => {
    const found = await seeTable(bench(), 'tools', ['nobody', 'ana'], { differ: true })
    expect(found.rows.map(({ key }) => key)).to.deep.equal(['1', '101', '201', '301', '401'])
    expect(found).to.deep.include({ more: false, callers: { nobody: { count: TOOLS }, ana: { count: TOOLS } } })
    const page = await seeTable(bench(), 'tools', ['nobody', 'ana'], { differ: true, offset: 1, limit: 2 })
    expect(page.rows.map(({ key, title }) => [key, title])).to.deep.equal([
      ['101', 'Tool 101'],
      ['201', 'Tool 201'],
    ])
    expect(page.more).to.equal(true)
    const last = await seeTable(bench(), 'tools', ['ana'], { orderBy: ['id descending'], limit: 1, offset: 449 })
    expect(last.rows.map(({ key }) => key)).to.deep.equal(['1'])
    expect(last.more).to.equal(false)
  })

  it('counts in a recorded file what would be too long a list, and notices one more', async () => {
    const recorded = await recordExpectations(bench(), undefined, 'e.yaml')
    expect(recorded).to.match(/ana:[^]*tools:\s*\{?\s*sees: 450/)
    const failed = async () => (await runFile(await openExpectations(bench(), recorded, 'e.yaml'))).outcomes
    expect((await failed()).filter(({ failures }) => failures.length > 0)).to.deep.equal([])
    await createGuard({ rules, store: fixture.store }).as(callers.warden).create('tools', { id: 999, name: 'Scythe' })
    const texts = (await failed()).flatMap(({ failures }) => failures.map(({ text: said }) => said))
    expect(texts).to.deep.equal(Array.from({ length: 3 }, () => 'it should be 450, but it is 451'))
  })

  it('tells what may be done to each record, also where nothing has to be asked for that', async () => {
    const guard = createGuard({ rules, store: fixture.store })
    const [member] = await guard.as(callers.ana).list('members', { fields: [], access: true, limit: 1 })
    expect(member?.$access).to.deep.include({ may: { update: false, delete: false }, seenBy: ['anyone'] })
  })

  it('gives whoever may create but never see nothing but the key', async () => {
    const guard = createGuard({ rules, store: fixture.store })
    const hidden = await refusalOf(guard.as(callers.ana).create('loans', { toolId: 3, day: '2026-11-23', memberId: 2 }))
    expect(hidden).to.include({ status: 403 })
    // Unless the rules say that it may be told whether a tool is lent on a day.
    const told = { ...rules, tables: { ...rules.tables, loans: { ...rules.tables['loans'], conflicts: 'told' } } }
    const telling = createGuard({ rules: told as typeof rules, store: fixture.store })
    const loan = await telling.as(callers.ana).create('loans', { toolId: 3, day: '2026-11-23', memberId: 2 })
    expect(loan).to.deep.equal({ toolId: 3, day: '2026-11-23' })
  })

  it('finds records that a condition names by key one by one, whatever else is asked', async () => {
    const guard = createGuard({ rules, store: fixture.store })
    const may = await guard.as(callers.ana).plan('tools', { where: (row) => row.may('update') })
    expect(may?.form).to.equal('gather')
    const byKey = await guard.as(callers.ana).plan('tools', { where: (row) => row.may('update'), limit: 1 })
    expect(byKey?.form).to.equal('gather')
    const one = await guard
      .as(callers.ana)
      .plan('tools', { where: (row) => all(row.id.oneOf([1, 2]), row.may('update')) })
    expect(one?.form).to.equal('walk')
  })

  it('explains trusted code as what it is', async () => {
    const open = openWorkbench({ rules, callers: { script: trusted('yearly count') }, store: fixture.store })
    const warn = console.warn
    console.warn = () => undefined
    const why = await explain(open, { caller: 'script', table: 'tools', action: 'delete', key: '1' })
    console.warn = warn
    expect(why).to.deep.include({ allowed: true, attributes: { trusted: 'yearly count' } })
  })

  it('refuses to take more records into memory than fit', async () => {
    const count = `INSERT INTO members (id, name) WITH RECURSIVE n (i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 20100) SELECT i, 'M' FROM n`
    await fixture.store.query(count, [])
    const error = await refusalOf(coverage(bench(), []))
    expect(error).to.be.instanceOf(TooManyRecordsError)
    expect(error.message).to.match(/there are 20\d{3}: at most 20000 fit/)
  })

  it('reads every key back as it was written', () => {
    const keys = fc.record({
      toolId: fc.integer(),
      day: fc.string({ unit: 'grapheme' }).filter((each) => !each.includes('\0')),
    })
    fc.assert(
      fc.property(keys, (key) => {
        fc.pre(!/\p{Surrogate}/u.test(key.day))
        expect(parseKey(model, 'loans', printKey(model, 'loans', key))).to.deep.equal(key)
      }),
      {
        examples: [
          [{ toolId: 1, day: 'a, b' }],
          [{ toolId: 1, day: ' ' }],
          [{ toolId: 1, day: '"a"' }],
          [{ toolId: 1, day: '' }],
        ],
      },
    )
    expect(() => parseKey(model, 'loans', '3')).to.throw('takes toolId, day, separated by commas; "3" does not')
    expect(() => parseKey(model, 'tools', 'x')).to.throw('id must be an integer')
  })

  it('names every change of the rules once, and the same each time', () => {
    const changes = mutantsOf(korenveld).map(({ change }) => change)
    expect(new Set(changes).size).to.equal(changes.length)
    expect(
      mutantsOf(JSON.parse(JSON.stringify(korenveld)) as typeof korenveld).map(({ change }) => change),
    ).to.deep.equal(changes)
    for (const { rulebook } of mutantsOf(korenveld))
      expect(JSON.stringify(rulebook)).not.to.equal(JSON.stringify(korenveld))
  })
})
