import { spawnSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { type Browser, chromium, type Page } from 'playwright-core'
import { rules } from '../examples/allotment/rules.js'
import { serve } from '../examples/allotment/serve.js'
import { browserOptions, hasChromium } from './support/browser.js'

const config = fileURLToPath(new URL('../examples/allotment/vite.config.ts', import.meta.url))

describe('the page', () => {
  let browser: Browser
  let page: Page
  let server: Awaited<ReturnType<typeof serve>>

  before(async function () {
    // In CI a missing browser is a failure: the launch below says so.
    if (!hasChromium && !process.env['CI']) this.skip()
    spawnSync('npx', ['vite', 'build', '--config', config, '--logLevel', 'error'], { stdio: 'inherit' })
    server = await serve(0)
    browser = await chromium.launch(browserOptions())
    page = await browser.newPage()
    page.setDefaultTimeout(30_000)
    await page.goto(server.address)
    await page.getByTestId('entries-1').first().waitFor()
  })
  after(async () => {
    await browser?.close()
    await server?.close()
  })

  const pane = (caller: string) => page.getByRole('region', { name: `as ${caller}` })
  const row = (caller: string, table: string, key: number) => pane(caller).getByTestId(`${table}-${key}`)
  /** A change sent past the page, as anyone can. */
  const forge = (caller: string, key: number, values: object) =>
    page.evaluate(
      async ([name, id, body]) => {
        const headers = { 'x-caller': name, 'content-type': 'application/json' }
        const response = await fetch(`/api/entries/${id}`, { method: 'PATCH', headers, body })
        return { status: response.status, ...((await response.json()) as { detail: string }) }
      },
      [caller, key, JSON.stringify(values)] as const,
    )

  it('shows ana a private entry that ben does not see, and ben the one shared with him', async () => {
    expect(await row('ana', 'entries', 1).getByRole('button', { name: 'Edit' }).count()).to.equal(1)
    expect(await row('ben', 'entries', 1).textContent()).to.match(/First leeks in.*reader/)
    expect(
      await row('ben', 'entries', 1)
        .getByRole('button', { name: /Edit|Delete/ })
        .count(),
    ).to.equal(0)
    expect(await row('ben', 'entries', 3).getByRole('button', { name: 'Edit' }).count()).to.equal(1)
    expect(await row('ana', 'entries', 45).textContent()).to.match(/shed key.*private.*author/)
    expect(await row('ben', 'entries', 45).count()).to.equal(0)
  })

  it('has the server answer a forged change with 404 or 403, by what the caller sees', async () => {
    const own = await forge('ana', 1, { title: 'Leeks, first of all' })
    expect(own.status).to.equal(200)
    expect(await forge('ben', 2, { title: 'Forged' })).to.include({ status: 403 })
    expect(await forge('ben', 45, { title: 'Forged' })).to.include({ status: 404 })
    expect((await forge('nobody', 45, { title: 'Forged' })).status).to.equal(401)
    expect((await forge('ana', 1, { titel: 'x' })).status).to.equal(422)
    await row('ben', 'entries', 2)
      .getByRole('button', { name: 'anyway' })
      .or(row('ben', 'entries', 2).getByText('anyway'))
      .first()
      .click()
    expect(await page.getByTestId('answer').first().textContent()).to.match(/^403ben.*may not update/)
  })

  it('shows a change to both callers', async () => {
    await row('ben', 'entries', 3).getByRole('button', { name: 'Edit' }).click()
    await page.getByLabel('title').fill('Frost, shared')
    await page.getByRole('button', { name: 'Save' }).click()
    await row('ana', 'entries', 3).getByText('Frost, shared').waitFor()
  })

  it('shows carla the jobs of her site', async () => {
    await pane('ben').getByRole('combobox', { name: 'Caller' }).click()
    await page.getByRole('option', { name: 'carla' }).click()
    await pane('carla').getByRole('tab', { name: 'Jobs (6)' }).click()
    expect(await row('carla', 'jobs', 4).getByRole('button', { name: 'Delete' }).count()).to.equal(1)
    // A finished job can be changed by nobody.
    expect(
      await row('carla', 'jobs', 3)
        .getByRole('button', { name: /Edit|Delete/ })
        .count(),
    ).to.equal(0)
  })

  it('can load the core and a rulebook, as the package ships them', async () => {
    const dist = fileURLToPath(new URL('../dist/', import.meta.url))
    await page.route('**/pachter/**', (route) =>
      route.fulfill({ path: dist + new URL(route.request().url()).pathname.slice('/pachter/'.length) }),
    )
    await page.route(server.address, async (route) => {
      const response = await route.fetch()
      const headers = { ...response.headers(), 'content-security-policy': "script-src 'self' 'unsafe-inline'" }
      await route.fulfill({ response, headers })
    })
    await page.goto(server.address)
    const told = await page.evaluate(
      async ([json, base]) => {
        const { readRulebook } = await import(`${base}/rules/index.js`)
        const { decide, predicate } = await import(`${base}/decide/index.js`)
        const record = { id: 7, authorId: 3, plotId: 6, audience: 'private' }
        const request = { caller: { id: 2 }, action: 'get', table: 'entries', data: {} }
        const rulebook = readRulebook(json)
        return {
          message: (decide(rulebook, { ...request, record }) as { message: string }).message,
          seen: [record, { ...record, authorId: 2 }].map(predicate(rulebook, request)) as boolean[],
          // The page says that no code may be made of text.
          generates: (await Promise.resolve('return 1')
            .then((text) => new Function(text)())
            .catch(() => false)) as unknown,
        }
      },
      [JSON.stringify(rules), `${server.address}pachter`] as const,
    )
    expect(told).to.deep.equal({
      message: 'There is no such record in entries.',
      seen: [false, true],
      generates: false,
    })
  })
})
