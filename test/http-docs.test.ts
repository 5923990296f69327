import { mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath, pathToFileURL } from 'node:url'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import type { Express } from 'express'
import type { FastifyInstance } from 'fastify'
import { sqliteStore } from 'pachter/connect/sqlite'
import type { Identity, Source, ToCaller } from 'pachter/identity'
import type { SignIn } from 'pachter/identity/sign-in'
import { AUDIENCE } from '../examples/allotment/identity-provider.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { type caller } from '../examples/allotment/rules.js'
import { compileErrors } from './support/compiled.js'
import { load } from './support/engines.js'
import { asked, surroundings } from './support/surroundings.js'
import { tokenFor } from './support/visitor.js'

const root = fileURLToPath(new URL('..', import.meta.url))
const folder = join(root, '.scratch-http-docs')

/** The blocks of a language on a page, in their order. */
const blocks = (page: string, language: string): readonly string[] =>
  [
    ...readFileSync(join(root, 'docs', page), 'utf8').matchAll(new RegExp(`^\`\`\`${language}\n(.*?)^\`\`\``, 'gms')),
  ].map(([, code = '']) => code)

type C = typeof caller

interface IdentityPage {
  readonly identity: Identity<C, never>
  readonly all: Identity<C, never>
  readonly withKeys: Identity<C, never>
  readonly member: ToCaller<C>
  readonly sessions: Source<C, unknown>
  readonly old: Source<C>
  readonly signIn: SignIn<C>
  rentsFor(request: Request): Promise<readonly object[]>
}

interface HttpPage {
  readonly handler: { handle(request: Request): Promise<Response> }
  readonly withPages: HttpPage['handler']
  readonly GET: HttpPage['handler']['handle']
  readonly app: Express
  readonly server: FastifyInstance
}

describe('the pages on identity and HTTP', () => {
  const { listening, provider, application } = surroundings()

  before(async () => {
    rmSync(folder, { recursive: true, force: true })
    mkdirSync(folder)
    for (const file of ['model.ts', 'rules.ts']) symlinkSync(join(root, 'examples/allotment', file), join(folder, file))
    const database = new Database(join(folder, 'korenveld.db'))
    await load({ name: 'file', store: sqliteStore(database), close: async () => undefined }, model, await readData())
    database.close()
  })
  after(() => rmSync(folder, { recursive: true, force: true }))

  /** Writes what a page has as a module, with the addresses of here. */
  function moduleOf(name: string, page: string, exported: readonly string[]): string {
    const code = blocks(page, 'ts')
      .join('\n')
      .replaceAll("'https://id.korenveld.example'", `'${provider().issuer}'`)
      .replaceAll("origin: 'https://korenveld.example'", `origin: '${application().origin}'`)
      .replaceAll("'korenveld.db'", `'${join(folder, 'korenveld.db')}'`)
    const file = join(folder, `${name}.ts`)
    writeFileSync(file, exported.length > 0 ? `${code}\nexport { ${exported.join(', ')} }\n` : code)
    return file
  }

  it('have code about identity that compiles and works', async () => {
    const names = ['guard', 'identity', 'all', 'withKeys', 'member', 'sessions', 'old', 'signIn', 'rentsFor']
    const file = moduleOf('identity-page', 'identity.md', names)
    expect(compileErrors([file])).to.equal('')
    const page = (await import(pathToFileURL(file).href)) as IdentityPage
    const token = await tokenFor(provider().issuer, application().origin, '4', AUDIENCE)
    const bearing = asked({ authorization: `Bearer ${token}` })
    expect(await page.rentsFor(bearing)).to.have.length.above(10)
    expect(await page.all.callerOf(bearing)).to.deep.equal({ id: 4 })
    expect(await page.withKeys.callerOf(asked({ 'x-api-key': 'leeks-and-onions' }))).to.deep.equal({
      id: 4,
      channel: 'script',
    })
    const claims = { email: 'zeno@korenveld.example', email_verified: true, name: 'Zeno', groups: ['koren-board'] }
    const zeno = await page.member(claims, { note: () => undefined })
    expect(zeno).to.deep.include({ id: 26, roles: ['secretary', 'auditor'] })
    const native = { session: { memberId: 2, token: 't' } }
    const found = await page.sessions.identify({ request: asked({}), native, note: () => undefined } as never)
    expect(found).to.deep.equal({ found: 'caller', caller: { id: 2 } })
    const empty = { request: asked({}), native: { session: {} }, note: () => undefined } as never
    expect(await page.sessions.identify(empty)).to.deep.equal({ found: 'nothing' })
    expect(page.old.name).to.equal('remote korenveld.example')
    expect(page.signIn.signInAt('/x')).to.equal('/sign-in?to=%2Fx')
  })

  it('have code about HTTP that compiles, and requests that are answered as they say', async () => {
    writeFileSync(
      join(folder, 'identity.ts'),
      `import { createGuard } from 'pachter'
import Database from 'better-sqlite3'
import { sqliteStore } from 'pachter/connect/sqlite'
import { createIdentity, notMine, thisCaller, type Source } from 'pachter/identity'
import { type caller, rules } from './rules.js'
export const guard = createGuard({ rules, store: sqliteStore(new Database('${join(folder, 'korenveld.db')}')) })
const IDS = { ana: { id: 1 }, ben: { id: 2 }, eva: { id: 5, roles: ['secretary'] } } as const
const byName: Source<typeof caller> = {
  name: 'name',
  identify: ({ request }) => {
    const [, name] = (request.headers.get('authorization') ?? '').split(' ')
    return name === undefined ? notMine : thisCaller<typeof caller>(IDS[name as 'ana'])
  },
}
export const identity = await createIdentity({ rules, sources: [byName] })
export const signIn = { signInAt: (to: string) => '/sign-in?to=' + to, handle: async (_: Request) => undefined as Response | undefined }
`,
    )
    const file = moduleOf('http-page', 'http.md', [])
    expect(compileErrors([file])).to.equal('')
    const page = (await import(pathToFileURL(file).href)) as HttpPage
    const written = blocks('http.md', 'http')
    let compared = 0
    for (let at = 0; at < written.length; at += 2) {
      const [line = '', ...rest] = (written[at] as string).split('\n')
      const [, method, path] = /^(\S+) (.*) HTTP/.exec(line) ?? []
      const { headers, body } = messageFrom(rest)
      const request = new Request(`http://localhost${path}`, {
        method: method as string,
        headers,
        ...(body && { body }),
      })
      const response = await page.handler.handle(request)
      const text = await response.text()
      const [status = '', ...told] = (written[at + 1] as string).split('\n')
      const expected = messageFrom(told)
      expect(`HTTP/1.1 ${response.status}`, `${line}: ${text}`).to.equal(status)
      for (const [name, value] of Object.entries(expected.headers)) {
        expect(response.headers.get(name), `${line}: ${name}`).to.match(patternOf(value))
      }
      if (expected.body === '') expect(text).to.equal('')
      else
        expect(JSON.stringify(JSON.parse(text)), `${line}: ${text}`).to.match(
          patternOf(JSON.stringify(JSON.parse(expected.body))),
        )
      compared += 1
    }
    expect(compared).to.be.at.least(8)

    const asPage = { headers: { accept: 'text/html' } }
    const sent = await page.withPages.handle(new Request('http://localhost/api/rents', asPage))
    expect([sent.status, sent.headers.get('location')]).to.deep.equal([303, '/sign-in?to=/api/rents'])
    expect((await page.GET(new Request('http://localhost/api/plots'))).status).to.equal(200)
    const { server, origin } = await listening()
    server.on('request', page.app)
    const served = [origin, await page.server.listen({ port: 0, host: '127.0.0.1' })]
    for (const at of served) {
      const as = async (name: string, to: string, method = 'GET') => {
        const response = await fetch(`${at}${to}`, { method, headers: { authorization: `Bearer ${name}` } })
        return [response.status, ((await response.json()) as { id?: number }).id]
      }
      expect(await as('ana', '/desk/2')).to.deep.equal([200, 2])
      expect((await as('ben', '/desk/2'))[0]).to.equal(403)
      if (at === origin) expect((await as('ben', '/close-the-books', 'POST'))[0]).to.equal(403)
    }
    await page.server.close()
  })

  function messageFrom(lines: readonly string[]) {
    const end = lines.indexOf('')
    const head = (end < 0 ? lines : lines.slice(0, end)).filter((each) => each.includes(': '))
    const body =
      end < 0
        ? ''
        : lines
            .slice(end + 1)
            .join('\n')
            .trim()
    const headers = Object.fromEntries(head.map((each) => each.split(/: (.*)/s).slice(0, 2) as [string, string]))
    return { headers, body }
  }

  /** What is written, where … stands for anything. */
  const patternOf = (text: string): RegExp =>
    new RegExp(`^${text.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&').replaceAll('…', '.*')}$`)
})
