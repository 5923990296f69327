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
  let server: Awaited<ReturnType<typeof serve>>
  const pages: Record<string, Page> = {}

  before(async function () {
    // In CI a missing browser is a failure: the launch below says so.
    if (!hasChromium && !process.env['CI']) this.skip()
    spawnSync('npx', ['vite', 'build', '--config', config, '--logLevel', 'error'], { stdio: 'inherit' })
    server = await serve(0)
    browser = await chromium.launch(browserOptions())
    for (const name of ['visitor', 'ana', 'ben', 'carla']) pages[name] = await visit(name)
  })
  after(async () => {
    await browser?.close()
    await server?.close()
  })

  /** The page in a browser of somebody's own, signed in at the identity provider. */
  async function visit(name: string): Promise<Page> {
    const page = await (await browser.newContext()).newPage()
    page.setDefaultTimeout(30_000)
    await page.goto(server.address)
    if (name !== 'visitor') await signIn(page, name)
    await page.getByTestId('entries/4').waitFor()
    return page
  }

  async function signIn(page: Page, name: string): Promise<void> {
    await page.getByRole('link', { name: 'Sign in' }).click()
    await page.getByRole('button', { name: new RegExp(`^${name}`, 'i') }).click()
    await page.getByRole('button', { name: 'Sign out' }).waitFor()
  }

  const on = (name: string) => pages[name] as Page
  const row = (name: string, table: string, key: number) => on(name).getByTestId(`${table}/${key}`)
  const turnTo = (name: string, table: string) => on(name).getByText(table, { exact: true }).click()
  /** A change sent past the page, as anyone can. */
  const forge = (name: string, key: number, values: object, token?: string) =>
    on(name).evaluate(
      async ([id, body, given]) => {
        const session = (await (await fetch('/sign-in/session')).json()) as { token?: string }
        const headers = { 'x-csrf-token': given ?? session.token ?? '', 'content-type': 'application/json' }
        const response = await fetch(`/api/entries/${id}`, { method: 'PATCH', headers, body })
        return { status: response.status, ...((await response.json()) as { detail: string }) }
      },
      [key, JSON.stringify(values), token] as const,
    )

  it('shows ana a private entry that ben does not see, and ben the one shared with him', async () => {
    expect(await row('ana', 'entries', 1).getByRole('button', { name: 'Edit' }).count()).to.equal(1)
    expect(await row('ben', 'entries', 1).textContent()).to.match(/First leeks in.*reader/)
    const changes = row('ben', 'entries', 1).getByRole('button', { name: /Edit|Delete/ })
    expect(await changes.count()).to.equal(0)
    expect(await row('ben', 'entries', 3).getByRole('button', { name: 'Edit' }).count()).to.equal(1)
    expect(await row('ana', 'entries', 45).textContent()).to.match(/shed key.*private.*author/)
    expect(await row('ben', 'entries', 45).count()).to.equal(0)
    expect(await row('visitor', 'entries', 1).count()).to.equal(0)
  })

  it('has the server answer a forged change with 404 or 403, by what the caller sees', async () => {
    const own = await forge('ana', 1, { title: 'Leeks, first of all' })
    expect(own.status).to.equal(200)
    expect(await forge('ben', 2, { title: 'Forged' })).to.include({ status: 403 })
    expect(await forge('ben', 45, { title: 'Forged' })).to.include({ status: 404 })
    expect((await forge('visitor', 45, { title: 'Forged' })).status).to.equal(401)
    expect((await forge('ana', 1, { titel: 'x' })).status).to.equal(422)
    await row('ben', 'entries', 2).getByText('anyway').click()
    expect(await on('ben').getByTestId('answer').first().textContent()).to.match(/^403PATCH.*may not update/)
  })

  it('takes no change without the token of its own session', async () => {
    const token = await on('ben').evaluate(
      async () => ((await (await fetch('/sign-in/session')).json()) as { token: string }).token,
    )
    for (const given of ['', token]) {
      expect(await forge('ana', 1, { title: 'Forged' }, given)).to.include({ status: 403 })
    }
  })

  it('shows a change to others, and tells whoever edits an older one', async () => {
    const open = async (name: string) => {
      await row(name, 'entries', 3).getByRole('button', { name: 'Edit' }).click()
      await on(name).getByLabel('title').waitFor()
    }
    const save = async (name: string, title: string) => {
      await on(name).getByLabel('title').fill(title)
      await on(name).getByRole('button', { name: 'Save' }).click()
    }
    await open('ben')
    await open('ana')
    await save('ben', 'Frost, shared')
    await row('ben', 'entries', 3).getByText('Frost, shared').waitFor()
    await save('ana', 'Frost, mine')
    expect(await on('ana').getByTestId('answer').first().textContent()).to.match(/^412.*changed since you read it/)
    await row('ana', 'entries', 3).getByText('Frost, shared').waitFor()
  })

  it('shows carla the jobs of her site', async () => {
    await turnTo('carla', 'jobs')
    await row('carla', 'jobs', 4).waitFor()
    expect(await row('carla', 'jobs', 4).getByRole('button', { name: 'Delete' }).count()).to.equal(1)
    // A finished job can be changed by nobody.
    const changes = row('carla', 'jobs', 3).getByRole('button', { name: /Edit|Delete/ })
    expect(await changes.count()).to.equal(0)
  })

  it('makes a member of somebody who signs in for the first time, and lets everybody out again', async () => {
    const page = await visit('zeno')
    await page.getByText('members', { exact: true }).click()
    await page.getByTestId('members/26').getByText('self').waitFor()
    await page.getByRole('button', { name: 'Sign out' }).click()
    await page.getByRole('button', { name: 'Sign out everywhere' }).click()
    await page.getByText('Visitor').waitFor()
    const session = (await page.context().cookies()).find(({ name }) => name === 'pachter-session')
    expect(session).to.equal(undefined)
  })

  it('can load the core and a rulebook, as the package ships them', async () => {
    const page = on('visitor')
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
