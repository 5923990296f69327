import { expect } from 'chai'
import { createGuard, type Data, decide, type DecideRequest, type Verdict } from 'pachter'
import { openFixture } from 'pachter/check'
import { createHandler } from 'pachter/http'
import { createIdentity } from 'pachter/identity'
import { tableOf } from 'pachter/model'
import { type SqlStore, sqlStore, withoutTrace } from 'pachter/sql'
import { callers } from '../examples/allotment/callers.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { readData } from '../examples/allotment/database.js'
import { NOW } from './support/korenveld.js'
import { asking, byHeader, type CallerName, type Read } from './support/web.js'

type Values = Readonly<Record<string, unknown>>

const NAMES = Object.keys(callers) as readonly CallerName[]
const TABLES = Object.keys(model.tables)

/** What is sent to change a record of each table, and to do what is its own. */
const CHANGES: Readonly<Record<string, Values>> = {
  members: { phone: '0600 00 0000' },
  sites: { name: 'Elsewhere' },
  siteWardens: {},
  plots: { crop: 'kale', notes: 'none' },
  applications: { motivation: 'Because of the beans, mostly.' },
  entries: { title: 'Changed', body: 'Changed' },
  entryShares: { level: 'edit' },
  remarks: { body: 'Changed' },
  jobs: { details: 'Changed' },
  jobHelpers: {},
  rents: { amountCents: 1 },
}

describe('every route, as every caller, for every record of Korenveld', () => {
  let opened: SqlStore
  let current: SqlStore
  let data: Data
  let ask: ReturnType<typeof asking>

  before(async () => {
    // A missing value is one, whether or not a file says so.
    const complete = (table: string, record: Values) => ({
      ...Object.fromEntries(Object.keys(tableOf(model, table).fields).map((name) => [name, null])),
      ...record,
    })
    const read = Object.entries(await readData())
    data = Object.fromEntries(read.map(([table, all]) => [table, all.map((each) => complete(table, each))]))
    opened = (await openFixture(model, new URL('../examples/allotment/data/', import.meta.url), 'sqlite')).store
    current = opened
    const store = sqlStore({
      dialect: opened.dialect,
      query: (text, values) => current.query(text, values),
      transaction: (work) => current.transaction(work),
    })
    const guard = createGuard({ rules, store, clock: () => NOW })
    const identity = await createIdentity({ rules, sources: [byHeader] })
    ask = asking(createHandler({ guard, identity, refusalMilliseconds: 0 }).handle)
  })
  after(() => opened?.close?.())

  /** Asks, and takes back what that wrote. */
  const undone = (...asked: Parameters<typeof ask>): Promise<Read> =>
    withoutTrace(opened, [], async (inside) => {
      current = inside
      try {
        return await ask(...asked)
      } finally {
        current = opened
      }
    })

  const verdictOn = (name: CallerName, request: Omit<DecideRequest, 'caller' | 'data' | 'now'>): Verdict =>
    decide(rules, { caller: callers[name], data, now: NOW, ...request })

  const pathTo = (table: string, record: Values) => `/${table}/${keyOf(table, record)}`
  const keyOf = (table: string, record: Values) =>
    tableOf(model, table)
      .key.map((name) => String(record[name]))
      .join(',')

  /** A record of a table that is not there. */
  const absent = (table: string) => Object.fromEntries(tableOf(model, table).key.map((name) => [name, 9999]))

  /** The record as the verdict on seeing it has it: in JSON, without what no grant that holds covers. */
  function seen(table: string, record: Values, { grants }: Verdict): Values {
    const held = grants.filter(({ holds }) => holds)
    const shown = Object.entries(record).filter(
      ([name]) =>
        tableOf(model, table).key.includes(name) || held.some(({ fields }) => !fields || fields.includes(name)),
    )
    return JSON.parse(JSON.stringify(Object.fromEntries(shown))) as Values
  }

  /** Every record, each table, each caller. */
  async function each(work: (name: CallerName, table: string, record: Values) => Promise<void>): Promise<void> {
    for (const name of NAMES) {
      for (const table of TABLES) for (const record of data[table] ?? []) await work(name, table, record)
    }
  }

  /** Holds an answer of refusal to the verdict. */
  function expectRefusal(read: Read, verdict: Verdict, about: string): void {
    expect(read.status, about).to.equal(verdict.status)
    if (verdict.status !== 422) expect(read.json['detail'], about).to.equal(verdict.message)
    const told = (read.json['errors'] ?? []) as readonly { pointer: string; detail: string }[]
    const fields = { ...verdict.fields, ...verdict.invalid }
    expect(Object.fromEntries(told.map(({ pointer, detail }) => [pointer.slice(2), detail])), about).to.deep.equal(
      fields,
    )
  }

  it('answers a get as the verdict in memory is, with the fields it opens and no other', async () => {
    const counts: Record<number, number> = {}
    await each(async (name, table, record) => {
      const verdict = verdictOn(name, { action: 'get', table, record })
      const read = await ask(name, 'GET', pathTo(table, record))
      counts[read.status] = (counts[read.status] ?? 0) + 1
      const about = `GET ${pathTo(table, record)} as ${name}`
      if (verdict.allowed) expect(read.json, about).to.deep.equal(seen(table, record, verdict))
      else expectRefusal(read, verdict, about)
    })
    console.log(`      by status: ${JSON.stringify(counts)}`)
    expect(Object.keys(counts)).to.deep.equal(['200', '401', '404'])
  })

  it('lists what the verdicts in memory open, page by page, with what may be done to each', async () => {
    for (const name of NAMES) {
      for (const table of TABLES) {
        const records = data[table] ?? []
        const visible = records.flatMap((record) => {
          const verdict = verdictOn(name, { action: 'list', table, record })
          return verdict.allowed ? [[record, seen(table, record, verdict)] as const] : []
        })
        let next: string | undefined = `/${table}?$top=7&access=true`
        const found: Values[] = []
        while (next !== undefined) {
          const read: Read = await ask(name, 'GET', next)
          if (read.status !== 200) {
            expect(visible, `${table} as ${name}`).to.deep.equal([])
            expect(read.status).to.be.oneOf([401, 403])
            break
          }
          found.push(...(read.json['records'] as Values[]))
          next = (read.json['next'] as string | undefined)?.replace('/api', '')
          expect(read.headers['link']).to.equal(next && `</api${next}>; rel="next"`)
        }
        const bare = found.map(({ $access: _, ...record }) => record)
        expect(bare, `${table} as ${name}`).to.have.deep.members(visible.map(([, shown]) => shown))
        for (const { $access, ...shown } of found) {
          const record = records.find((one) => keyOf(table, one) === keyOf(table, shown)) as Values
          const { may } = $access as { may: Record<string, boolean> }
          for (const [action, allowed] of Object.entries(may)) {
            const verdict = verdictOn(name, { action, table, record, ...(action !== 'delete' && { values: {} }) })
            expect(allowed, `${action} ${table} ${keyOf(table, record)} as ${name}`).to.equal(verdict.allowed)
          }
        }
      }
    }
  })

  it('answers changes, removals and a table’s own actions as the verdicts in memory are', async () => {
    const counts: Record<number, number> = {}
    const refersTo = (table: string, record: Values) =>
      Object.entries(model.tables).some(([other, { fields }]) =>
        Object.entries(fields).some(
          ([field, { references }]) =>
            references === table &&
            (data[other] ?? []).some((one) => one[field] === record[tableOf(model, table).key[0]]),
        ),
      )
    await each(async (name, table, record) => {
      const own = rules.tables[table]?.actions ?? []
      for (const action of ['update', 'delete', ...own]) {
        const values = action === 'update' ? CHANGES[table] : action === 'delete' ? undefined : {}
        const verdict = verdictOn(name, { action, table, record, ...(values && { values }) })
        const path = pathTo(table, record)
        const read =
          action === 'update'
            ? await undone(name, 'PATCH', path, values)
            : action === 'delete'
              ? await undone(name, 'DELETE', path)
              : await undone(name, 'POST', `${path}/${action}`)
        counts[read.status] = (counts[read.status] ?? 0) + 1
        const about = `${action} ${path} as ${name}: ${read.text}`
        if (!verdict.allowed) expectRefusal(read, verdict, about)
        else if (action !== 'delete') expect(read.status, about).to.equal(200)
        else if (read.status === 409) expect(refersTo(table, record), about).to.equal(true)
        else expect(read.status, about).to.equal(204)
        // What comes back shows no field that a get does not.
        if (read.status !== 200) continue
        const before = verdictOn(name, { action: 'get', table, record })
        expect(Object.keys(seen(table, record, before)), about).to.include.members(Object.keys(read.json))
      }
    })
    console.log(`      by status: ${JSON.stringify(counts)}`)
    expect(Object.keys(counts)).to.include.members(['200', '204', '401', '403', '404'])
  })

  it('answers a create as the verdict in memory is', async () => {
    const counts: Record<number, number> = {}
    for (const name of NAMES) {
      for (const table of TABLES) {
        const { key, fields } = tableOf(model, table)
        for (const record of (data[table] ?? []).slice(0, 4)) {
          // All but what the database or the server fills in.
          const sent = Object.entries(record).filter(([field, value]) => {
            const isKey = key.includes(field) && fields[field]?.generated === true
            return value !== null && !isKey && !Object.hasOwn(rules.tables[table]?.stamps['create'] ?? {}, field)
          })
          const values = { ...Object.fromEntries(sent), ...(table === 'members' && { email: 'new@korenveld.example' }) }
          const read = await undone(name, 'POST', `/${table}`, values)
          counts[read.status] = (counts[read.status] ?? 0) + 1
          const typed = Object.fromEntries(
            Object.entries(values).map(([field, value]) => [
              field,
              record[field] instanceof Date ? record[field] : value,
            ]),
          )
          const verdict = verdictOn(name, { action: 'create', table, values: typed })
          const about = `create ${table} ${JSON.stringify(values)} as ${name}: ${read.text}`
          if (!verdict.allowed) expectRefusal(read, verdict, about)
          // A key of several fields is there already.
          else expect(read.status, about).to.equal(key.length > 1 ? 409 : 201)
        }
      }
    }
    console.log(`      by status: ${JSON.stringify(counts)}`)
    expect(Object.keys(counts)).to.include.members(['201', '401', '403'])
  })

  it('answers for a hidden record as for one that is not there, to the last byte', async () => {
    let compared = 0
    await each(async (name, table, record) => {
      if (verdictOn(name, { action: 'get', table, record }).allowed) return
      const own = rules.tables[table]?.actions ?? []
      const requests = [
        ['GET', ''],
        ['GET', '?$select=&$expand='],
        ['HEAD', ''],
        ['PATCH', '', CHANGES[table]],
        ['PATCH', '', { nothing: 1 }],
        ['DELETE', ''],
        ...own.map((action) => ['POST', `/${action}`]),
      ] as const
      for (const [method, more, body] of requests) {
        const answer = (one: Values) =>
          undone(name, method, `${pathTo(table, one)}${more}`, body, { 'if-match': '"x"', accept: 'text/html' })
        const [hidden, none] = [await answer(record), await answer(absent(table))]
        expect(hidden, `${method} ${pathTo(table, record)}${more} as ${name}`).to.deep.equal(none)
        compared += 1
      }
    })
    console.log(`      ${compared} pairs of answers`)
    expect(compared).to.be.above(1000)
  })
})
