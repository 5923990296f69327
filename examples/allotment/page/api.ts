import type { Access, VisibleRecord } from 'pachter'
import type { model } from '../model.js'

/** The tables the page shows. */
export type Table = 'entries' | 'jobs'

/** A record as the server sends it, with what the caller may do to it. */
export type Listed<T extends Table = Table> = Jsonified<VisibleRecord<typeof model, T>> & { readonly $access: Access }

type Jsonified<R> = { readonly [K in keyof R]: R[K] extends Date | null | undefined ? string | null : R[K] }

/** Somebody to look through. */
export interface CallerInfo {
  readonly name: string
  readonly description: string
}

/** What the server answered to a request. */
export interface Answer {
  readonly caller: string
  readonly request: string
  readonly status: number
  readonly title: string
  readonly detail: string
}

/** The callers there are. */
export async function fetchCallers(): Promise<readonly CallerInfo[]> {
  return (await fetch('/api/callers')).json() as Promise<readonly CallerInfo[]>
}

/** The records of a table as a caller gets them, or why not. */
export async function fetchRecords(
  caller: string,
  table: Table,
): Promise<{ records: readonly Listed[]; refusal?: string }> {
  const response = await fetch(`/api/${table}`, { headers: { 'x-caller': caller } })
  const body = (await response.json()) as readonly Listed[] | { detail: string }
  return 'detail' in body ? { records: [], refusal: body.detail } : { records: body as readonly Listed[] }
}

/** Sends a change as a caller, whether or not it is permitted, and says what came back. */
export async function send(
  caller: string,
  method: 'PATCH' | 'DELETE',
  table: Table,
  key: number,
  values?: object,
): Promise<Answer> {
  const response = await fetch(`/api/${table}/${key}`, {
    method,
    headers: { 'x-caller': caller, 'content-type': 'application/json' },
    ...(values && { body: JSON.stringify(values) }),
  })
  const problem = response.ok ? {} : ((await response.json()) as { title: string; detail: string })
  const request = `${method} /api/${table}/${key}${values ? ` ${JSON.stringify(values)}` : ''}`
  return { caller, request, status: response.status, title: 'done', detail: 'The change was made.', ...problem }
}
