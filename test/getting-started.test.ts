import { type ChildProcess, execFileSync, spawn } from 'node:child_process'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { type Browser, chromium, type Page } from 'playwright-core'
import { browserOptions, hasChromium } from './support/browser.js'
import { type Foreign, inPostgresql } from './support/adopted.js'
import { compileErrors } from './support/compiled.js'
import { openEngines } from './support/engines.js'
import { freePort } from './support/servers.js'

const root = fileURLToPath(new URL('..', import.meta.url))
const page = readFileSync(join(root, 'docs/getting-started.md'), 'utf8')

/** The blocks of code on the page, in their order. */
const blocks = (language: string): readonly string[] =>
  [...page.matchAll(new RegExp(`^\`\`\`${language}\n(.*?)^\`\`\``, 'gms'))].map(([, code = '']) => code)

const [sql = '', withdrawn = ''] = blocks('sql')
const [leaky = '', proposed = '', guarded = '', served = ''] = blocks('ts')
const [markup = ''] = blocks('html')
const [script = ''] = blocks('tsx')
const [install = '', ...commands] = blocks('sh').flatMap((block) => block.trim().split('\n'))

describe('getting started', () => {
  let foreign: Foreign | undefined

  after(() => foreign?.close())

  /** Starts the application as the page says, and asks it. */
  async function withApp(code: string, work: (ask: typeof asked, origin: string) => Promise<void>): Promise<void> {
    const { folder, address } = foreign as Foreign
    writeFileSync(join(folder, 'app.ts'), code)
    const port = await freePort()
    const env = { ...process.env, DATABASE_URL: address, PORT: String(port) }
    const tsx = join(root, 'node_modules/tsx/dist/cli.mjs')
    const app: ChildProcess = spawn(process.execPath, [tsx, 'app.ts'], { cwd: folder, env, stdio: 'inherit' })
    try {
      const origin = `http://127.0.0.1:${port}`
      await work((method, path, member) => asked(method, `${origin}${path}`, member), origin)
    } finally {
      app.kill()
    }
  }

  async function asked(method: string, url: string, member?: number): Promise<{ status: number; body: unknown }> {
    for (;;) {
      const headers = member === undefined ? {} : { 'x-member': String(member) }
      const response = await fetch(url, { method, headers }).catch(() => undefined)
      // It takes a moment to start.
      if (!response) await new Promise((resolve) => setTimeout(resolve, 100))
      else {
        const text = await response.text()
        return { status: response.status, body: text === '' ? undefined : (JSON.parse(text) as unknown) }
      }
    }
  }

  /** What is typed at a shell. */
  function typed(line: string): string {
    const { folder, address } = foreign as Foreign
    const [, ...args] = line.replace('"$DATABASE_URL"', address).split(' ').slice(1)
    const main = join(folder, 'node_modules/pachter/dist/cli/main.js')
    return execFileSync(process.execPath, [main, ...args], {
      cwd: folder,
      encoding: 'utf8',
      env: { ...process.env, DATABASE_URL: address },
    })
  }

  /** Builds the page as it is written there. */
  function built(line: string): void {
    const { folder } = foreign as Foreign
    mkdirSync(join(folder, 'page'))
    writeFileSync(join(folder, 'page/index.html'), markup)
    writeFileSync(join(folder, 'page/main.tsx'), script)
    const [, , ...args] = line.split(' ')
    const vite = join(root, 'node_modules/vite/bin/vite.js')
    execFileSync(process.execPath, [vite, ...args, '--logLevel', 'error'], { cwd: folder, encoding: 'utf8' })
  }

  /** The page in a window of somebody's own. */
  async function windowOf(browser: Browser, origin: string, member: number): Promise<Page> {
    const window = await (await browser.newContext()).newPage()
    await window.goto(`${origin}/?member=${member}`)
    await window.getByRole('listitem').first().waitFor()
    return window
  }

  const titles = (body: unknown) => (body as readonly { title: string }[]).map(({ title }) => title)

  it('goes from the leak to a guarded route, as the page has it', async function () {
    const url = (await openEngines()).find(({ name }) => name === 'PostgreSQL')?.url
    if (!url) return this.skip()
    foreign = await inPostgresql(url, 'getting-started', sql)
    await withApp(leaky, async (ask) => {
      expect(titles((await ask('GET', '/entries')).body)).to.have.length(4)
      expect((await ask('DELETE', '/entries/2')).status).to.equal(204)
    })
    await foreign.run("INSERT INTO entries (id, author_id, audience, title) VALUES (2, 1, 'public', 'Open day')")
    expect(install).to.equal('npm install pachter')
    const [adopt = '', see = '', check = '', indexes = '', triggers = '', more = '', build = ''] = commands
    expect(typed(adopt)).to.include('members are the people who sign in.')
    const rules = readFileSync(join(foreign.folder, 'access/rules.ts'), 'utf8').replace(/\s+/g, '')
    expect(rules).to.include(proposed.replace(/\s+/g, ''))
    expect(typed(see)).to.match(/entries +1 +3 +3 +1 +4\n/)
    await withApp(guarded, async (ask) => {
      const seenBy = async (member?: number) => titles((await ask('GET', '/entries', member)).body)
      expect(await seenBy(1)).to.deep.equal(['Leeks', 'Open day', 'Compost'])
      expect(await seenBy(3)).to.deep.equal(['Open day'])
      expect(await seenBy()).to.deep.equal(['Open day'])
      expect([
        (await ask('DELETE', '/entries/4', 1)).status,
        (await ask('DELETE', '/entries/3', 1)).status,
      ]).to.deep.equal([404, 403])
      expect((await ask('DELETE', '/entries/4', 2)).status).to.equal(204)
    })
    expect(compileErrors([join(foreign.folder, 'app.ts')])).to.equal('')
    expect(typed(check)).to.equal('Model and database are of one mind.\n')
    expect(typed(indexes)).to.include('CREATE INDEX')

    // And on to pages that follow.
    if (!hasChromium && !process.env['CI']) return undefined
    expect(typed(triggers)).to.match(/entries +there/)
    expect(more).to.match(/^npm install react /)
    built(build)
    await withApp(served, async (ask, origin) => {
      const { body } = await ask('GET', '/api/entries?access=true', 1)
      expect(titles((body as { records: unknown }).records)).to.deep.equal(['Leeks', 'Open day', 'Compost'])
      const browser = await chromium.launch(browserOptions())
      const [ana, ben] = [await windowOf(browser, origin, 1), await windowOf(browser, origin, 2)]
      const bens = ana.getByRole('listitem').filter({ hasText: 'Compost' })
      const button = bens.getByRole('button', { name: 'Delete' })
      expect(await button.getAttribute('title')).to.equal('You may not delete this record of entries.')
      await bens.getByRole('link').click()
      await ana.getByText('Not for you, or not there.').waitFor()
      const nobody = await browser.newPage()
      await nobody.goto(`${origin}/entries/3/edit`)
      await nobody.getByText('Not for you, or not there.').waitFor()
      await ana.goBack()
      await ana.getByRole('listitem').filter({ hasText: 'Leeks' }).getByRole('link').click()
      await ana.getByLabel('Title').fill('Leeks, thinned')
      await ana.getByRole('button', { name: 'Save' }).click()
      await ana.getByText('Leeks, thinned').waitFor()
      await ben.getByRole('listitem').filter({ hasText: 'Compost' }).getByRole('link').click()
      await ben.getByLabel('Title').fill('Compost, turned')
      await ben.getByRole('button', { name: 'Save' }).click()
      await ana.getByText('Compost, turned').waitFor()
      await foreign?.run(withdrawn)
      await bens.waitFor({ state: 'detached' })
      await browser.close()
    })
    expect(compileErrors([join(foreign.folder, 'app.ts'), join(foreign.folder, 'page/main.tsx')])).to.equal('')
    return undefined
  })
})
