import { expect } from 'chai'
import Ajv from 'ajv/dist/2020.js'
import { anonymous, createGuard, readRulebook, type Rulebook, type Rules, trusted } from 'pachter'
import { rulebookSchema } from 'pachter/rules'
import { callers } from '../examples/allotment/callers.js'
import type { model } from '../examples/allotment/model.js'
import type { caller } from '../examples/allotment/rules.js'
import { rules } from '../examples/allotment/rules.js'
import { NOW, openKorenveld, refusalOf } from './support/korenveld.js'

const { ana, ben, carla, dirk, eva, noor } = callers
const WEEK = 7 * 86_400_000

describe('the rule language on Korenveld', () => {
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>
  before(async () => {
    korenveld = await openKorenveld()
  })
  after(() => korenveld.close())

  const as: (typeof korenveld)['guard']['as'] = (who) => korenveld.guard.as(who)
  const undone = <T>(work: () => Promise<T>) => korenveld.undone(work)

  it('takes duties from the member’s own record, at once', () =>
    undone(async () => {
      expect(await as(noor).count('rents')).to.equal(0)
      await as(eva).update('members', 25, { duties: ['auditor'] })
      expect(await as(noor).count('rents')).to.equal(25)
      expect(await refusalOf(as(noor).act('rents', 'settle', 2))).to.include({ status: 403 })
      // The treasurer's duties stand in the record too, so that the session need not know of them.
      expect(await as({ id: 4 }).count('rents')).to.equal(25)
    }))

  it('lets a role imply another, and asks for several at once and for the channel', () =>
    undone(async () => {
      expect(await as({ id: 9, roles: ['auditor'] }).count('rents')).to.equal(25)
      const paidAt = new Date(NOW.getTime() - WEEK)
      expect(await refusalOf(as(dirk).act('rents', 'reopen', 1, { paidAt }))).to.include({ status: 403 })
      expect(
        await refusalOf(as({ id: 9, roles: ['auditor'], channel: 'script' }).act('rents', 'reopen', 1)),
      ).to.include({ status: 403 })
      expect(await as({ ...dirk, channel: 'script' }).act('rents', 'reopen', 1, { paidAt })).to.deep.include({ paidAt })
    }))

  it('asks and enforces actions of a table’s own like the others', () =>
    undone(async () => {
      const [waiting] = await as(eva).list('applications', { access: true })
      expect(waiting?.$access.may).to.deep.equal({ update: false, delete: false, approve: true, decline: true })
      expect(await refusalOf(as(ana).act('applications', 'approve', 1))).to.include({ status: 404 })
      expect(await refusalOf(as(noor).act('applications', 'approve', 1))).to.include({ status: 403 })
      expect(
        await refusalOf(as(eva).act('applications', 'approve', 1, { motivation: 'Because I say so.' })),
      ).to.include({ status: 403 })
      const own = await refusalOf(as(eva).act('applications', 'approve', 1, { status: 'waiting' }))
      expect(own.message).to.match(/status is set by the server/)
      expect(await refusalOf(as(eva).act('applications', 'improve' as 'approve', 1))).to.have.property(
        'code',
        'name-unknown',
      )
      expect(await as(eva).act('applications', 'approve', 1)).to.include({ status: 'approved' })
      const again = await refusalOf(as(eva).act('applications', 'approve', 1))
      expect(again.message).to.equal('This application has been decided.')
      // Others now see it, but not why it was sent.
      expect(await as(ana).get('applications', 1)).to.have.keys('id', 'applicantId', 'siteId', 'status')
    }))

  it('sees shares that expire, watchers, and access by duty', async () => {
    expect(await refusalOf(as(ben).get('entries', 7))).to.include({ status: 404 })
    await undone(async () => {
      await as(carla).update('entryShares', { entryId: 7, memberId: 2 }, { until: new Date(NOW.getTime() + WEEK) })
      expect(await as(ben).get('entries', 7)).to.include({ id: 7 })
    })
    expect(await as(dirk).list('jobs')).to.have.length(1)
    expect((await as(eva).list('jobs'))[0]).to.include({ id: 9 })
  })

  it('knows times relative to now', () =>
    undone(async () => {
      const remark = await as(ana).create('remarks', { entryId: 1, body: 'Mended.' })
      expect(await as(ana).update('remarks', remark.id, { body: 'Mended it.' })).to.include({ body: 'Mended it.' })
      const later = createGuard({ rules, store: korenveld.store, clock: () => new Date(NOW.getTime() + 15 * 60_000) })
      expect(await refusalOf(later.as(ana).update('remarks', remark.id, { body: 'Late.' }))).to.include({ status: 403 })
    }))

  it('denies by what changes, and checks old against new', async () => {
    const published = await refusalOf(as(ana).update('entries', 4, { audience: 'private' }))
    expect(published.message).to.equal('What is public stays public.')
    await undone(() => as(ana).update('entries', 4, { title: 'Seeds', audience: 'public' }))
    const back = await refusalOf(as(ben).update('jobs', 2, { status: 'open' }))
    expect(back).to.include({ status: 422 })
    expect(back.message).to.match(/status does not go back to open/)
  })

  it('reports every failing field at once, a Standard Schema validator’s too', async () => {
    const failing = await refusalOf(as(ana).create('jobs', { siteId: 1, title: '', details: 'x' }))
    expect(failing.message).to.match(/title must have 1 to 80 characters; dueAt is missing/)
    expect(await refusalOf(as(eva).update('members', 6, { email: 'none', name: '' })))
      .to.have.property('message')
      .that.matches(/email must match .*; name must have 1 to 80/)
    const validate = (value: unknown) =>
      (value as { body?: string }).body === 'spam' ? { issues: [{ message: 'is spam', path: ['body'] }] } : { value }
    const validator = { '~standard': { version: 1 as const, vendor: 'korenveld', validate } }
    const guard = createGuard({ rules, store: korenveld.store, validators: { entries: { update: validator } } })
    expect(await refusalOf(guard.as(ana).update('entries', 1, { title: '', body: 'spam' })))
      .to.have.property('message')
      .that.matches(/body is spam; title must have/)
  })

  it('checks own values against each other, together with all else', async () => {
    const rent = { memberId: 1, plotId: 1, year: 1990, amountCents: 1, paidAt: new Date(NOW.getTime() + WEEK) }
    const failing = await refusalOf(as(dirk).create('rents', rent))
    expect(failing.message).to.match(/paidAt cannot lie in the future; year must be from 2000 to 2100/)
    const moved = await refusalOf(as(carla).update('jobs', 1, { siteId: 2 }))
    expect(moved.message).to.match(/siteId never changes/)
  })

  it('keeps list and get apart, and grants as for another action', () =>
    undone(async () => {
      expect(await as(noor).count('siteWardens')).to.equal(4)
      const key = { siteId: 1, memberId: 3 }
      expect(await refusalOf(as(noor).get('siteWardens', key))).to.include({ status: 404 })
      expect(await as(eva).get('siteWardens', key)).to.deep.equal(key)
      expect(await refusalOf(as(carla).delete('siteWardens', key))).to.include({ status: 404 })
      await as(eva).delete('siteWardens', key)
      expect(await as(carla).count('jobs')).to.equal(1)
    }))

  it('blocks bulk writes by key, with each message, all or none', async () => {
    const refused = (await refusalOf(as(eva).deleteMany('rents', [1, 23, 999]))) as Error & { refusals: unknown }
    expect(refused.refusals).to.deep.equal([
      { key: 1, status: 403, message: 'A paid rent cannot be deleted, except by the treasurer.' },
      { key: 23, status: 403, message: 'Nobody deletes what they owe.' },
      { key: 999, status: 404, message: 'There is no such record in rents.' },
    ])
    expect(await as(dirk).count('rents')).to.equal(25)
    const bulk = await refusalOf(as(ana).updateMany('entries', [1, 2, 5], { title: 'All mine' }))
    expect(bulk).to.include({ code: 'bulk-refused', status: 403 })
    expect(await as(ana).get('entries', 1)).to.include({ title: 'First leeks in' })
  })

  it('lets trusted code by, by name and on the record', () =>
    undone(async () => {
      const uses: unknown[] = []
      const guard = createGuard({ rules, store: korenveld.store, onDecision: (use) => uses.push(use) })
      const script = guard.as(trusted('yearly import'))
      expect(await script.count('applications')).to.equal(8)
      expect(await script.update('entries', 7, { authorId: 1 })).to.include({ authorId: 1 })
      expect(await refusalOf(script.update('entries', 7, { title: 7 as never }))).to.include({ status: 422 })
      expect(await refusalOf(script.get('entries', 999))).to.include({ status: 404 })
      expect(uses[0]).to.include({
        trusted: 'yearly import',
        method: 'count',
        table: 'applications',
        outcome: 'allowed',
      })
      expect(uses).to.have.length(4)
      // It finds what it asks for, hidden or not, and may do everything.
      expect(await script.count('applications', { where: (row) => row.id.oneOf([1, 2, 999]) })).to.equal(2)
      expect(await script.count('applications', { where: (row) => row.may('approve') })).to.equal(8)
      expect(() => trusted(' ')).to.throw(/state a reason/)
    }))

  describe('as a file', () => {
    const written = JSON.stringify(rules)

    it('reads back without loss, and fits the published schema', () => {
      expect(readRulebook(written)).to.deep.equal(rules)
      const validate = new Ajv.Ajv2020({ strict: false }).compile(rulebookSchema)
      expect(validate(JSON.parse(written)), JSON.stringify(validate.errors)).to.equal(true)
    })

    it('guards as the rules it was written from', async () => {
      const guard = createGuard({
        rules: readRulebook(written) as Rules<typeof model, typeof caller>,
        store: korenveld.store,
      })
      expect(await guard.as(ben).list('entries')).to.deep.equal(await as(ben).list('entries'))
      expect(await refusalOf(guard.as(anonymous).list('jobs'))).to.include({ status: 401 })
    })

    it('is refused, with the place, where it is damaged, newer, or does not fit its model', () => {
      type Loose = Record<string, never> & {
        tables: Record<string, Record<string, Record<string, Record<string, unknown>>>>
      }
      const damaged = (change: (book: Loose) => void): string => {
        const book = JSON.parse(written) as Loose
        change(book)
        return JSON.stringify(book)
      }
      const entries = (book: Loose) => book.tables['entries'] as Record<string, Record<string, Record<string, unknown>>>
      const wrong: [string, RegExp][] = [
        [written.slice(0, 100), /is not JSON/],
        ['{"format":"other"}', /format is not/],
        [damaged((book) => Object.assign(book, { version: 2 })), /of version 2, .* update pachter/],
        [damaged((book) => Object.assign(book, { extra: 1 })), /extra is not known here/],
        [damaged((book) => delete entries(book)['ties']), /tables.entries has no ties/],
        [
          damaged((book) => Object.assign(entries(book)['ties'] ?? {}, { author: { kind: 'when' } })),
          /tables.entries.ties.author is "when"; it must be one of always/,
        ],
        [
          damaged((book) => Object.assign(entries(book)['ties']?.['author']?.['left'] ?? {}, { name: 'writerId' })),
          /entries tie author: There is no field "writerId"/,
        ],
        [written.replace('"value":"public"', '"value":"secret"'), /"secret" is not one of private, members, public/],
        [written.replace('"value":"public"', '"value":1'), /1 is not one of private/],
        [written.replace('{"to":["author","coAuthor"]', '{"to":["writer"]'), /no tie "writer"/],
      ]
      for (const [json, message] of wrong) expect(() => readRulebook(json), String(message)).to.throw(message)
      const deep = damaged((book) => {
        let condition: Rulebook['tables'][string]['ties'][string] = { kind: 'always' }
        for (let depth = 0; depth < 500; depth += 1) condition = { kind: 'not', of: condition }
        Object.assign(entries(book)['ties'] ?? {}, { author: condition })
      })
      expect(() => readRulebook(deep)).to.throw(/nests deeper than/)
    })
  })
})
