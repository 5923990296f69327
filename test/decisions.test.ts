import { Writable } from 'node:stream'
import { expect } from 'chai'
import { pino } from 'pino'
import { createGuard, trusted } from 'pachter'
import type { Decision } from 'pachter/guard'
import { pinoDecisions } from 'pachter/guard/pino'
import { callers } from '../examples/allotment/callers.js'
import { rules } from '../examples/allotment/rules.js'
import { NOW, openKorenveld, refusalOf } from './support/korenveld.js'

const { nobody, ana, ben, eva } = callers

describe('the decision log', () => {
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>
  before(async () => {
    korenveld = await openKorenveld()
  })
  after(() => korenveld.close())

  it('tells who asked for what, what came of it, and through which tie', async () => {
    const told: Decision[] = []
    const guard = createGuard({
      rules,
      store: korenveld.store,
      clock: () => NOW,
      onDecision: (each) => told.push(each),
    })
    await guard.as(ben).get('entries', 1)
    await guard.as(ana).update('entries', 1, { title: 'First leeks in' })
    await guard.as(eva).list('applications', { limit: 1 })
    await refusalOf(guard.as(ben).update('entries', 45, { title: 'x' }))
    await refusalOf(guard.as(nobody).list('rents'))
    await guard.as(trusted('yearly import')).count('rents')
    const failing = { ...korenveld.store, query: () => Promise.reject(new Error('connection lost')) }
    const broken = createGuard({ rules, store: failing, onDecision: (each) => told.push(each) })
    await refusalOf(broken.as(ana).get('entries', 1))
    expect(
      told.map(({ method, table, key, outcome, status, through }) => [method, table, key, outcome, status, through]),
    ).to.deep.equal([
      ['get', 'entries', 1, 'allowed', 200, ['reader']],
      ['update', 'entries', 1, 'allowed', 200, ['author']],
      ['list', 'applications', undefined, 'allowed', 200, ['applicant', 'role secretary', 'signed in']],
      ['update', 'entries', 45, 'refused', 404, []],
      ['list', 'rents', undefined, 'refused', 401, []],
      ['count', 'rents', undefined, 'allowed', 200, []],
      ['get', 'entries', 1, 'failed', 500, []],
    ])
    expect(told[0]?.caller).to.deep.equal({ signedIn: true, roles: [], attributes: { id: 2 } })
    expect(told.every(({ milliseconds }) => milliseconds > 0)).to.equal(true)
    expect(told[3]?.message).to.equal('There is no such record in entries.')
    expect(told[5]).to.include({ trusted: 'yearly import' })
  })

  it('costs no query where nobody listens', async () => {
    korenveld.sent.splice(0)
    await korenveld.guard.as(ana).get('entries', 1)
    expect(korenveld.sent).to.have.length(1)
  })

  it('is written by Pino, refusals as warnings', async () => {
    const lines: string[] = []
    const stream = new Writable({ write: (chunk, _, done) => (lines.push(String(chunk)), done()) })
    const guard = createGuard({ rules, store: korenveld.store, onDecision: pinoDecisions(pino(stream)) })
    await guard.as(ana).get('entries', 1)
    await refusalOf(guard.as(ben).delete('entries', 45))
    const [allowed, refused] = lines.map(
      (line) => JSON.parse(line) as { level: number; msg: string; decision: Decision },
    )
    expect(allowed).to.deep.include({ level: 30, msg: 'get entries allowed' })
    expect(refused).to.deep.include({ level: 40, msg: 'delete entries refused' })
    expect(refused?.decision).to.include({ key: 45, status: 404 })
  })
})
