import { type ChildProcess, execFileSync, spawn } from 'node:child_process'
import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { compileErrors, type Foreign, inPostgresql } from './support/adopted.js'
import { openEngines } from './support/engines.js'
import { freePort } from './support/servers.js'

const root = fileURLToPath(new URL('..', import.meta.url))
const page = readFileSync(join(root, 'docs/getting-started.md'), 'utf8')

/** The blocks of code on the page, in their order. */
const blocks = (language: string): readonly string[] =>
  [...page.matchAll(new RegExp(`^\`\`\`${language}\n(.*?)^\`\`\``, 'gms'))].map(([, code = '']) => code)

const [sql = ''] = blocks('sql')
const [leaky = '', proposed = '', guarded = ''] = blocks('ts')
const [install = '', ...commands] = blocks('sh').flatMap((block) => block.trim().split('\n'))

describe('getting started', () => {
  let foreign: Foreign | undefined

  after(() => foreign?.close())

  /** Starts the application as the page says, and asks it. */
  async function withApp(code: string, work: (ask: typeof asked) => Promise<void>): Promise<void> {
    const { folder, address } = foreign as Foreign
    writeFileSync(join(folder, 'app.ts'), code)
    const port = await freePort()
    const env = { ...process.env, DATABASE_URL: address, PORT: String(port) }
    const tsx = join(root, 'node_modules/tsx/dist/cli.mjs')
    const app: ChildProcess = spawn(process.execPath, [tsx, 'app.ts'], { cwd: folder, env, stdio: 'inherit' })
    try {
      await work((method, path, member) => asked(method, `http://127.0.0.1:${port}${path}`, member))
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
    const [adopt = '', see = '', check = '', indexes = ''] = commands
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
  })
})
