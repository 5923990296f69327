import { createGuard, type Store } from 'pachter'
import { createHandler, type HandlerOptions } from 'pachter/http'
import { createIdentity, notMine, type Source, thisCaller } from 'pachter/identity'
import { callers } from '../../examples/allotment/callers.js'
import { caller, rules } from '../../examples/allotment/rules.js'

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

type Options = Partial<HandlerOptions<(typeof rules)['model'], typeof caller, never, never>>

/** Korenveld's records, served whole. */
export async function korenveldOver(store: Store, options: Pick<Options, 'pages' | 'onError'> = {}) {
  const guard = createGuard({ rules, store })
  const identity = await createIdentity({ rules, sources: [byHeader] })
  return createHandler({ guard, identity, title: 'Korenveld', ...options })
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
