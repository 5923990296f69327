import { expect } from 'chai'
import { createGuard } from 'pachter'
import { openFixture } from 'pachter/check'
import { createHandler } from 'pachter/http'
import { createIdentity, notMine, type Source, thisCaller } from 'pachter/identity'
import { callers } from '../../examples/allotment/callers.js'
import { model } from '../../examples/allotment/model.js'
import { type caller, rules } from '../../examples/allotment/rules.js'

export type CallerName = keyof typeof callers

/** Says who asks by a header, for tests that are about something else. */
export const byHeader: Source<typeof caller> = {
  name: 'header',
  challenge: 'Bearer',
  identify: ({ request }) => {
    const name = request.headers.get('x-caller') as CallerName | null
    return name === null || name === 'nobody' ? notMine : thisCaller<typeof caller>(callers[name])
  },
}

/** An answer, read. */
export interface Read {
  readonly status: number
  readonly headers: Readonly<Record<string, string>>
  readonly text: string
  readonly json: Readonly<Record<string, unknown>>
}

export async function readAnswer(response: Response): Promise<Read> {
  const text = await response.text()
  const isJson = response.headers.get('content-type')?.includes('json') === true
  const json = isJson && text !== '' ? (JSON.parse(text) as Read['json']) : {}
  return { status: response.status, headers: Object.fromEntries(response.headers), text, json }
}

/** Asks as one of the callers, with what a body is written as JSON, unless it is a text. */
export function asking(handle: (request: Request) => Promise<Response>) {
  return async (
    name: CallerName,
    method: string,
    path: string,
    body?: unknown,
    headers: Readonly<Record<string, string>> = {},
  ): Promise<Read> => {
    const sends = body !== undefined && { body: typeof body === 'string' ? body : JSON.stringify(body) }
    const type = sends ? { 'content-type': 'application/json' } : {}
    const init = { method, headers: { 'x-caller': name, ...type, ...headers }, ...sends }
    return readAnswer(await handle(new Request(`http://localhost/api${path}`, init)))
  }
}

/** Values for a new entry of Ana's. */
export const ENTRY = { plotId: 1, audience: 'private', title: 'Beans', body: 'Up.' }

/** Korenveld's records, served whole, for each test as they were; no test may have anything fail on the server. */
export function serving() {
  const failures: unknown[] = []
  let fixture: Awaited<ReturnType<typeof openFixture>>
  let current: ReturnType<typeof asking>

  const handlerOf = async () =>
    createHandler({
      guard: createGuard({ rules, store: fixture.store }),
      identity: await createIdentity({ rules, sources: [byHeader], onEvent: () => undefined }),
      refusalMilliseconds: 1,
      onError: (error) => failures.push(error),
      title: 'Korenveld',
    })
  const ask = (...asked: Parameters<typeof current>): Promise<Read> => current(...asked)

  before(async () => {
    fixture = await openFixture(model, new URL('../../examples/allotment/data/', import.meta.url), 'sqlite')
    current = asking((await handlerOf()).handle)
  })
  beforeEach(() => fixture.begin())
  afterEach(async () => {
    await fixture.undo()
    expect(failures.splice(0), 'nothing failed').to.deep.equal([])
  })
  after(() => fixture?.close())

  return {
    ask,
    handlerOf,
    opened: () => fixture,
    detailOf: async (...asked: Parameters<typeof current>) => {
      const { status, json } = await ask(...asked)
      return `${status} ${String(json['detail'])}`
    },
  }
}
