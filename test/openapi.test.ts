import { mkdirSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'
import { Validator } from '@seriousme/openapi-schema-validator'
import { expect } from 'chai'
import express from 'express'
import createClient from 'openapi-fetch'
import openapiTS, { astToString } from 'openapi-typescript'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import { createHandler, describe as described } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity } from 'pachter/identity'
import { callers } from '../examples/allotment/callers.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { compileErrors } from './support/compiled.js'
import { asking, byHeader, type CallerName, ENTRY } from './support/web.js'
import { useClient } from './support/client.js'

interface Listed {
  readonly $access: { readonly may: Readonly<Record<string, boolean>>; readonly changeable: readonly string[] }
}

interface Schema {
  readonly properties?: Readonly<Record<string, object>>
  readonly required?: readonly string[]
}

type Document = {
  readonly paths: Readonly<Record<string, Readonly<Record<string, object>>>>
  readonly components: {
    readonly schemas: Readonly<Record<string, Schema>>
  }
}

describe('the description of what is served', () => {
  let fixture: Awaited<ReturnType<typeof openFixture>>
  let handler: Awaited<ReturnType<typeof handlerOf>>
  const folder = fileURLToPath(new URL('../.scratch-openapi/', import.meta.url))
  const whole = described({ rulebook: rules, base: '/api', title: 'Korenveld' }) as unknown as Document

  const handlerOf = async () =>
    createHandler({
      guard: createGuard({ rules, store: fixture.store }),
      identity: await createIdentity({ rules, sources: [byHeader] }),
      title: 'Korenveld',
    })

  before(async () => {
    fixture = await openFixture(model, new URL('../examples/allotment/data/', import.meta.url), 'sqlite')
    handler = await handlerOf()
  })
  after(async () => {
    rmSync(folder, { recursive: true, force: true })
    await fixture?.close()
  })

  const describedTo = async (name: CallerName) =>
    (await asking(handler.handle)(name, 'GET', '/openapi.json')).json as unknown as Document

  it('is OpenAPI, for everybody and for each caller', async () => {
    for (const document of [whole, ...(await Promise.all((Object.keys(callers) as CallerName[]).map(describedTo)))]) {
      const { valid, errors } = await new Validator().validate(document as never)
      expect(valid, JSON.stringify(errors)).to.equal(true)
    }
  })

  it('says to each caller what that caller could see and send, and no more', async () => {
    const fieldsIn = ({ components }: Document, name: string) => Object.keys(components.schemas[name]?.properties ?? {})
    const methodsAt = ({ paths }: Document, path: string) =>
      Object.keys(paths[path] ?? {}).filter((name) => name !== 'parameters')
    expect(fieldsIn(whole, 'members')).to.include.members(['id', 'email', 'duties', 'rents', '$access'])
    expect(fieldsIn(whole, 'entriesCreate')).to.deep.equal(['plotId', 'audience', 'title', 'body'])
    expect(methodsAt(whole, '/api/rents/{key}/settle')).to.deep.equal(['post'])

    const visitor = await describedTo('nobody')
    expect(Object.keys(visitor.paths).filter((path) => !path.includes('{'))).to.deep.equal([
      '/api/openapi.json',
      '/api/$caller',
      '/api/sites',
      '/api/plots',
      '/api/entries',
      '/api/remarks',
    ])
    expect(fieldsIn(visitor, 'plots')).not.to.include.members(['holderId', 'notes', 'holder'])
    expect(Object.values(visitor.paths).flatMap(Object.keys)).not.to.include.members(['post', 'patch', 'delete'])

    expect((await asking(handler.handle)('nobody', 'GET', '/openapi.json?of=anyone')).status).to.equal(400)
    const open = createHandler({
      guard: handler.guard,
      identity: await createIdentity({ rules, sources: [byHeader] }),
      title: 'Korenveld',
      describesAll: true,
    })
    expect((await asking(open.handle)('nobody', 'GET', '/openapi.json?of=anyone')).json).to.deep.equal(whole)

    const ana = await describedTo('ana')
    expect(methodsAt(ana, '/api/members')).to.deep.equal(['get'])
    expect(fieldsIn(ana, 'membersUpdate')).to.deep.equal(['name', 'phone'])
    expect(methodsAt(ana, '/api/rents/{key}/settle')).to.deep.equal([])
    // The treasurer's role is said by the session, the secretary's here by her own record.
    expect(methodsAt(await describedTo('dirk'), '/api/rents/{key}/settle')).to.deep.equal(['post'])
    await fixture.begin()
    await fixture.store.query(`UPDATE "members" SET "duties" = '["secretary"]' WHERE "id" = 1`, [])
    expect(methodsAt(await describedTo('ana'), '/api/members')).to.deep.equal(['get', 'post'])
    await fixture.undo()
  })

  it('has all that a caller sees of any record, and may do to it', async () => {
    let compared = 0
    for (const name of Object.keys(callers) as CallerName[]) {
      const { paths, components } = await describedTo(name)
      const has = (schema: string) => Object.keys(components.schemas[schema]?.properties ?? {})
      for (const table of Object.keys(model.tables)) {
        const { status, json } = await asking(handler.handle)(name, 'GET', `/${table}?$top=200&access=true`)
        expect(status === 200, `${name} ${table}`).to.equal(paths[`/api/${table}`]?.['get'] !== undefined)
        for (const record of (json['records'] ?? []) as readonly Listed[]) {
          const { may, changeable } = record.$access
          expect(has(table)).to.include.members(Object.keys(record))
          if (changeable.length > 0) expect(has(`${table}Update`)).to.include.members(changeable)
          const methods = { update: 'patch', delete: 'delete' }
          for (const action of Object.keys(may).filter((each) => may[each])) {
            const method = methods[action as 'update']
            const path = paths[`/api/${table}/{key}${method ? '' : `/${action}`}`]
            expect(path?.[method ?? 'post'], `${name} ${action} ${table}`).to.be.an('object')
          }
          compared += 1
        }
      }
    }
    expect(compared).to.be.above(500)
  })

  it('names what a new record needs, and nothing else', async () => {
    const due = '2026-07-01T12:00:00Z'
    const made: [CallerName, string, object][] = [
      ['ana', 'entries', ENTRY],
      ['eva', 'members', { name: 'Finn', email: 'finn@korenveld.example', phone: '1', duties: [] }],
      ['carla', 'jobs', { siteId: 1, title: 'Mend', details: 'The fence.', assigneeId: null, dueAt: due }],
      ['dirk', 'rents', { id: 999, memberId: 1, plotId: 1, year: 2031, amountCents: 1, paidAt: null }],
    ]
    for (const [who, table, body] of made) {
      const ask = asking(handler.handle)
      const sent = async (values: object) => {
        await fixture.begin()
        const { status, json } = await ask(who, 'POST', `/${table}`, values)
        await fixture.undo()
        return status === 422 ? (json['errors'] as { pointer: string }[]).map(({ pointer }) => pointer).join() : status
      }
      expect(await sent(body), table).to.equal(201)
      const { required = [] } = whole.components.schemas[`${table}Create`] ?? {}
      for (const name of Object.keys(body)) {
        const without = { ...body, [name]: undefined }
        expect(await sent(without), `${table} without ${name}`).to.equal(required.includes(name) ? `#/${name}` : 201)
      }
    }
  })

  it('makes a client that compiles, refuses what is wrong before it is sent, and works', async () => {
    mkdirSync(folder, { recursive: true })
    writeFileSync(`${folder}korenveld.d.ts`, astToString(await openapiTS(whole as never)))
    const [good, bad] = [`${folder}good.ts`, `${folder}bad.ts`]
    const head = `import createClient from 'openapi-fetch'\nimport type { paths } from './korenveld.js'\nconst client = createClient<paths>({})\n`
    const source = useClient.toString().replace(/^async function useClient\(client\)/, 'export async function use()')
    writeFileSync(good, head + source)
    writeFileSync(
      bad,
      `${head}await client.POST('/api/entries', { body: { plotId: 'one', audience: 'everybody', title: 'x', body: 'y' } })
await client.PATCH('/api/entries/{key}', { params: { path: { key: '1' } }, body: { title: 2 } })
await client.GET('/api/secrets')\n`,
    )
    expect(compileErrors([good])).to.equal('')
    const lines = compileErrors([bad]).match(/bad[.]ts.\d+/g)
    expect([...new Set(lines)]).to.deep.equal(['bad.ts(4', 'bad.ts(5', 'bad.ts(6'])

    const { records } = forExpress(handler)
    const server = createServer(express().use(records))
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
    try {
      const baseUrl = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
      const told = await useClient(createClient({ baseUrl, headers: { 'x-caller': 'ana' } }))
      expect(told).to.deep.equal({
        titles: ['Seed swap list'],
        made: 'Beans',
        changed: 'Broad beans',
        refused: 'There is no such record in entries.',
        problems: ['#/title'],
        removed: 204,
      })
    } finally {
      server.close()
    }
  })
})
