import { spawnSync } from 'node:child_process'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import express from 'express'
import fc from 'fast-check'
import { anonymous, createGuard } from 'pachter'
import { AnswerError, createClient } from 'pachter/client'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity, notMine } from 'pachter/identity'
import { createLive, type Followed, followWrites } from 'pachter/live'
import { createTables, type SqlStore } from 'pachter/sql'
import { type Browser, chromium, type Page } from 'playwright-core'
import { browserOptions, hasChromium } from './support/browser.js'
import { describedBy } from './support/described.js'
import { type Engine, engineNames, load, openEngines, stopsAtFirst } from './support/engines.js'
import { until } from './support/followed.js'
import { type Sample, sample } from './support/samples/drawn.js'
import { model, rules } from './support/samples/rules.js'
import { scratchFolder } from './support/scratch.js'

describe('values of every type, from the database to a page and back', function () {
  this.timeout(120_000)
  const store = followWrites(sqliteStore(new Database(':memory:')))
  const everybody = createGuard({ rules, store }).as(anonymous)
  let server: Server
  let origin: string
  let around: Awaited<ReturnType<typeof served>>

  before(async () => {
    for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
    around = await served(store)
    const web = forExpress(around.handler)
    const pages = scratchFolder()
    const folder = fileURLToPath(new URL('support/samples/', import.meta.url))
    spawnSync('npx', ['vite', 'build', folder, '--outDir', pages, '--logLevel', 'error'], { stdio: 'inherit' })
    server = createServer(express().use(web.records, express.static(pages), web.refuse))
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
    origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  })
  after(async () => {
    await around.close()
    server.close()
    server.closeAllConnections()
  })

  const stored = async (id: bigint) => ({ ...(await everybody.get('samples', id)) }) as Sample
  let next = 100n

  for (const name of engineNames) {
    it(`come to the client as they are stored on ${name}, are stored as it sends them, and are followed alike`, async () => {
      const engine = (await openEngines()).find((each) => each.name === name) as Engine
      await load(engine, model, { samples: [] })
      const { client, guard, close } = await served(followWrites(engine.store))
      const there = async (id: bigint) => ({ ...(await guard.as(anonymous).get('samples', id)) }) as Sample
      const followed = new Map<unknown, Sample>()
      const records = ({ records: all }: { readonly records: readonly { readonly id: bigint }[] }) =>
        all.forEach((each) => followed.set(each.id, each))
      client.follow('samples', { limit: 200, orderBy: 'id descending' }, { records })
      await fc.assert(
        fc.asyncProperty(sample, sample, async (values, others) => {
          const id = (next += 1n)
          expect(await client.create('samples', { id, ...values })).to.deep.equal({ id, ...values })
          expect(await there(id)).to.deep.equal({ id, ...values })
          expect(await client.get('samples', id)).to.deep.equal({ id, ...values })
          await client.update('samples', id, others)
          expect(await there(id)).to.deep.equal({ id, ...others })
          await until(() => written(followed.get(id)) === written({ id, ...others }))
          expect(followed.get(id)).to.deep.equal({ id, ...others })
        }),
        { numRuns: 40, endOnFailure: stopsAtFirst },
      )
      await close()
    })
  }

  it('are refused before they are sent where JSON would make others of them', async () => {
    const id = (next += 1n)
    const { client } = around
    await client.create('samples', {
      id,
      text: 'leeks',
      boolean: true,
      texts: ['a'],
      integer: 3,
      timestamp: new Date(0),
    })
    const before = await stored(id)
    const bad = {
      integer: NaN,
      float: Infinity,
      timestamp: new Date(NaN),
      bigInteger: 2n ** 64n,
      bigIntegers: [2n ** 64n],
    }
    const error = await client.update('samples', id, bad).catch((cause: unknown) => cause)
    expect(error).to.be.instanceOf(AnswerError).with.property('status', 422)
    expect(Object.keys((error as AnswerError).fields)).to.have.members(Object.keys(bad))
    expect(await stored(id)).to.deep.equal(before)
  })

  it('are told apart from a page that answers where nothing is served', async () => {
    // As a site answers for whatever it does not know, and what stands in front of a server that is down.
    for (const status of [200, 404, 502]) {
      const headers = { 'content-type': status === 502 ? 'application/problem+json' : 'text/html' }
      const page = () =>
        Promise.resolve(new Response(status === 502 ? '{"type":"about:blank"}' : '<p>', { status, headers }))
      const lost = createClient({ model, signIn: null, fetch: page })
      const told: unknown[] = []
      if (status < 500)
        lost.follow('samples', {}, { records: () => told.push('records'), refused: ({ code }) => told.push(code) })
      for (const asked of [lost.list('samples'), lost.session(), lost.create('samples', { text: 'a' })]) {
        told.push(await asked.then(String, ({ code }: AnswerError) => code))
      }
      const count = status < 500 ? 4 : 3
      await until(() => told.length === count)
      expect(told).to.deep.equal(Array(count).fill('answer-unreadable'))
      lost.close()
    }
  })

  describe('in a form', () => {
    let browser: Browser
    before(async function () {
      if (!hasChromium && !process.env['CI']) this.skip()
      browser = await chromium.launch(browserOptions())
    })
    after(() => browser?.close())

    const options = Object.entries({
      texts: ['a', 'A', 'b', 'a ', 'é'],
      bigIntegers: [2n ** 53n + 1n, -(2n ** 63n), 2n ** 53n],
    }).flatMap(([name, all]) => all.map((each) => [name, String(each)]))
    const open = async (page: Page, id?: bigint) => {
      const query = new URLSearchParams([...options, ...(id === undefined ? [] : [['id', String(id)]])])
      await page.goto(`${origin}/?${query.toString()}`)
      await page.locator('input[name=text]:enabled').waitFor()
    }
    const shown = (page: Page) =>
      page.locator('input, select').evaluateAll((all) =>
        (all as unknown as Input[]).map(({ name, type, value, checked, selectedOptions }) => ({
          name,
          type,
          given:
            type === 'checkbox'
              ? checked
              : type === 'select-multiple'
                ? Array.from(selectedOptions, (each) => each.value)
                : value,
        })),
      )

    it('are shown as they can be typed, and what is typed is the value', async () => {
      const page = await (await browser.newContext({ timezoneId: 'Europe/Amsterdam' })).newPage()
      await fc.assert(
        fc.asyncProperty(sample, sample, async (one, other) => {
          const [id, from] = [(next += 1n), (next += 1n)]
          await everybody.create('samples', { id, ...one })
          await everybody.create('samples', { id: from, ...other })
          await open(page, from)
          const typed = await shown(page)
          await open(page, id)
          for (const { name, type, given } of typed) {
            const input = page.locator(`[name=${name}]`)
            if (type === 'checkbox') await input.setChecked(given as boolean)
            else if (type === 'select-multiple') await input.selectOption(given as string[])
            else await input.fill(given as string)
          }
          await page.getByRole('button').click()
          const wanted = inForms({ ...other, id, bytes: one['bytes'], json: one['json'] })
          await until(async () => written(inForms(await stored(id))) === written(wanted), 5)
          expect(await page.locator('p').textContent()).to.equal('{}')
          expect(inForms(await stored(id))).to.deep.equal(wanted)
        }),
        { numRuns: 8, endOnFailure: stopsAtFirst },
      )
    })

    it('are not refused in silence, whatever it is said of', async () => {
      const page = await browser.newPage()
      await open(page)
      for (const [text, { message }] of Object.entries(WEEDS)) {
        await page.fill('[name=text]', text)
        await page.getByRole('button').click()
        const told = page.locator('p', { hasText: message })
        await told.waitFor()
        const isWhole = (await told.textContent())?.includes('}These values do not fit samples')
        expect(isWhole, text).to.equal(text !== 'moss')
      }
    })

    it('are no moments where there is no such time, whatever JavaScript would make of them', async () => {
      const page = await browser.newPage()
      // As with a component that lets everything be typed.
      await page.goto(`${origin}/?plain`)
      await page.locator('input[name=text]:enabled').fill('Leeks')
      for (const typed of ['5', '2026-02-30T10:00', 'March 1, 2026']) {
        await page.fill('[name=timestamp]', typed)
        await page.getByRole('button').click()
        await page.locator('p', { hasText: '"timestamp":"must be a moment' }).waitFor()
        expect(await page.inputValue('[name=timestamp]')).to.equal(typed)
      }
    })

    it('that nobody touched are what is seen: not ticked, none chosen, missing', async () => {
      const page = await browser.newPage()
      await open(page)
      await page.fill('[name=text]', 'Leeks')
      await page.getByRole('button').click()
      await until(() => everybody.exists('samples', { where: (row) => row.id.is(99n) }))
      const made = await stored(99n)
      expect(made).to.include({ text: 'Leeks', boolean: false, integer: null, timestamp: null })
      expect(made['texts']).to.deep.equal([])
    })
  })
})

/** Everything of a store, served to a client in the same process. */
const described = describedBy(rules)

async function served(store: Followed<SqlStore>) {
  const guard = createGuard({ rules, store, validators: { samples: { create: weedless } } })
  const nobody = { name: 'nobody', identify: () => notMine }
  const handler = createHandler({ guard, identity: await createIdentity({ rules, sources: [nobody] }) })
  const live = await createLive({ handler, store })
  const undescribed: string[] = []
  const fetch = async (url: string, init?: RequestInit) => {
    const request = new Request(`http://localhost${url}`, init)
    const stream = await live.handle(request)
    if (stream) return stream
    const response = await handler.handle(request)
    undescribed.push(...(await described.answer(request, response)))
    if (response.ok && init?.body) {
      const type = new Headers(init.headers).get('content-type') ?? ''
      undescribed.push(...described.sent(request, type, init.body as string))
    }
    return response
  }
  const client = createClient({ model, signIn: null, fetch: fetch as never })
  const close = async () => {
    client.close()
    await live.close()
    expect(undescribed).to.deep.equal([])
  }
  return { guard, handler, client, close }
}

/** What is wrong with some texts: as values of no field, of one that has no input, and of their own. */
const WEEDS: Readonly<Record<string, { readonly path: readonly string[]; readonly message: string }>> = {
  weeds: { path: [], message: 'as a whole' },
  thistles: { path: ['id'], message: 'by its key' },
  moss: { path: ['text'], message: 'by its text' },
}
const weedless = {
  '~standard': {
    version: 1 as const,
    validate: (given: unknown) => {
      const text = (given as Sample)['text'] as string
      return Object.hasOwn(WEEDS, text) ? { issues: [WEEDS[text] as (typeof WEEDS)[string]] } : {}
    },
  },
}

/** A form has moments to the second, and nothing chosen where a list is missing. */
const inForms = ({ timestamp, bigIntegers, ...values }: Sample): Sample => ({
  ...values,
  timestamp: timestamp === null ? null : Math.floor((timestamp as Date).getTime() / 1000),
  bigIntegers: bigIntegers ?? [],
})

const written = (values: Sample | undefined): string =>
  JSON.stringify(Object.entries(values ?? {}).sort(), (_name, value: unknown) =>
    typeof value === 'bigint' ? `${value}n` : value instanceof Uint8Array ? [...value] : value,
  )

interface Input {
  readonly name: string
  readonly type: string
  readonly value: string
  readonly checked: boolean
  readonly selectedOptions: Iterable<{ readonly value: string }>
}
