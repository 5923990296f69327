import type { Access } from 'pachter'
import { tableOf } from 'pachter/model'
import { model } from '../model.js'

/** The tables of Korenveld. */
export type Table = keyof typeof model.tables & string

/** A record as the server sends it, with what may be done to it. */
export type Listed = Readonly<Record<string, unknown>> & { readonly $access: Access }

/** Who is signed in. */
export interface Session {
  readonly signedIn: boolean
  readonly name?: string | null
  /** What changes have to carry. */
  readonly token?: string
}

/** What the server answered to a request. */
export interface Answer {
  readonly request: string
  readonly status: number
  readonly detail: string
}

/** Where a record is. */
export const pathOf = (table: Table, record: Readonly<Record<string, unknown>>): string =>
  `/api/${table}/${tableOf(model, table)
    .key.map((name) => encodeURIComponent(String(record[name])))
    .join(',')}`

/** Who is signed in, as the server knows. */
export async function fetchSession(): Promise<Session> {
  return (await fetch('/sign-in/session')).json() as Promise<Session>
}

/** Signs out, here and at the identity provider. */
export async function signOut({ token = '' }: Session): Promise<void> {
  const response = await fetch('/sign-in/out', { method: 'POST', headers: { 'x-csrf-token': token } })
  const { next } = (await response.json()) as { readonly next: string }
  location.assign(next)
}

/** What of a table came, or why nothing did. */
export interface Loaded {
  readonly records: readonly Listed[]
  readonly refusal?: string
}

/** The records of a table, as many as a page has. */
export async function fetchRecords(table: Table): Promise<Loaded> {
  const response = await fetch(`/api/${table}?access=true&$top=200`)
  const body = (await response.json()) as { readonly records?: readonly Listed[]; readonly detail?: string }
  return body.records ? { records: body.records } : { records: [], refusal: body.detail ?? response.statusText }
}

/** A record as it is now, and the mark of that. */
export async function fetchRecord(path: string): Promise<{ readonly record: Listed; readonly etag: string | null }> {
  const response = await fetch(path)
  return { record: (await response.json()) as Listed, etag: response.headers.get('etag') }
}

/** Sends a change, whether or not it is permitted, and says what came back. */
export async function send(
  { token }: Session,
  method: 'PATCH' | 'DELETE',
  path: string,
  values?: object,
  etag?: string | null,
): Promise<Answer> {
  const response = await fetch(path, {
    method,
    headers: {
      ...(token && { 'x-csrf-token': token }),
      ...(values && { 'content-type': 'application/merge-patch+json' }),
      ...(etag && { 'if-match': etag }),
    },
    ...(values && { body: JSON.stringify(values) }),
  })
  const problem = response.ok ? undefined : ((await response.json()) as { readonly detail: string })
  const request = `${method} ${path}${values ? ` ${JSON.stringify(values)}` : ''}`
  return { request, status: response.status, detail: problem?.detail ?? 'The change was made.' }
}
