import { UnreadError, type UntypedStore } from '../guard/index.js'
import { keyPath, type KeyValues, type ModelData } from '../model/index.js'
import { closedVerdict, isClosed, refusal, RefusedError } from '../decide/index.js'
import type { Caller, Rulebook } from '../rules/index.js'
import { done, tell } from './answer.js'
import { JSON_TYPES, PATCH_TYPES, readObject, valuesFrom } from './body.js'
import { isAmong, tagOf, type WriteJson } from './json.js'
import { merged } from './merge.js'
import { keyFrom } from './path.js'
import { withinLimits } from './more.js'
import { assertNoQuery, readListQuery, readRecordQuery } from './query/options.js'
import { writePlace } from './query/place.js'
import { onlyOnce, type RepeatStore } from './repeats.js'

type ReadRecord = Readonly<Record<string, unknown>>

/** One request for records of a table, by a caller who is known. */
export interface Visit {
  readonly request: Request
  readonly url: URL
  readonly model: ModelData
  readonly rulebook: Rulebook
  readonly table: string
  /** The path of the table. */
  readonly at: string
  /** Who asks, checked once more where that is needed. */
  caller(): Caller
  readonly store: UntypedStore
  readonly write: WriteJson
  readonly repeats: RepeatStore
  /** Hears of what went wrong and does not change the answer. */
  report(error: unknown): void
}

/** A page of a table, with a link to the next. */
export async function list(visit: Visit): Promise<Response> {
  const { request, url, model, table, store, write } = visit
  const { options, order, besides } = closedFirst(visit, 'list', () => readListQuery(model, table, url.searchParams))
  // One more than the page has says whether there is another.
  const found = (await store.list(table, { ...options, limit: options.limit + 1 } as never)) as readonly ReadRecord[]
  const page = found.slice(0, options.limit)
  const last = page.at(-1)
  const next = found.length > page.length && last ? nextPage(url, writePlace(model, table, order, last)) : undefined
  const whole = besides.length > 0 ? page.map((record) => without(record, besides)) : page
  const records = whole.map((record) => withinLimits(record, options))
  return tell(request, write, {
    content: next ? { records, next } : { records },
    ...(next && { headers: { link: `<${next}>; rel="next"` } }),
  })
}

/** What is wrong with a question names fields and what they take: not to those whom nothing is open to. */
function closedFirst<T>({ rulebook, table, caller }: Visit, action: 'list' | 'get', read: () => T): T {
  try {
    return read()
  } catch (error) {
    const inquiry = { rulebook, table, action, caller: caller() }
    throw isClosed(inquiry) ? refusal(closedVerdict(inquiry)) : error
  }
}

function nextPage({ pathname, searchParams }: URL, place: string): string {
  const query = new URLSearchParams(searchParams)
  query.set('$skiptoken', place)
  return `${pathname}?${query.toString()}`
}

const without = (record: ReadRecord, names: readonly string[]): ReadRecord =>
  Object.fromEntries(Object.entries(record).filter(([name]) => !names.includes(name)))

/** Who asks, as the rules know them, with their roles by now; no attributes, which may be the application's own business. */
export async function whoAsks({ request, url, caller, store, write }: Visit): Promise<Response> {
  assertNoQuery(url.searchParams)
  const { signedIn, attributes } = caller()
  const known = signedIn ? { id: attributes['id'], roles: await store.roles() } : { roles: [] }
  return tell(request, write, { content: { signedIn, ...known } })
}

/** One record. With what may be done to it comes the mark that a change of it may name in `If-Match`. */
export async function get(visit: Visit, key: KeyValues): Promise<Response> {
  const { request, url, model, table, store, write } = visit
  const asked = closedFirst(visit, 'get', () => readRecordQuery(model, table, url.searchParams))
  const record = (await store.get(table, key, asked as never)) as ReadRecord
  const { access, fields, with: related = {} } = asked
  const marked = access && !fields ? { $tag: tagOf(write(without(record, ['$access', ...Object.keys(related)]))) } : {}
  return tell(request, write, { content: { ...withinLimits(record, asked), ...marked } })
}

/** Stores a new record; once, where the request says under which key it may come again. */
export async function create(visit: Visit): Promise<Response> {
  const { request, url, model, table, store, caller, repeats } = visit
  assertNoQuery(url.searchParams)
  const body = await readObject(request, JSON_TYPES)
  const values = valuesFrom(model, table, body)
  const given = request.headers.get('idempotency-key')
  if (given === null) return created(visit, (await store.create(table, values)) as ReadRecord)
  let stored: ReadRecord | undefined
  const asked = { caller: caller(), table, given, body }
  const storing = async () => {
    try {
      stored = (await store.create(table, values)) as ReadRecord
    } catch (error) {
      // It is stored, and not to be stored again.
      if (error instanceof UnreadError && error.key) return keyPath(model, table, error.key)
      throw error
    }
    return keyPath(model, table, stored)
  }
  const key = await onlyOnce(repeats, asked, storing, visit.report)
  return created(visit, stored ?? (await asSeenNow(visit, key)))
}

/** A record that was stored before, as its caller sees it now; only its key where the caller does not. */
async function asSeenNow({ model, table, store }: Visit, written: string): Promise<ReadRecord> {
  const key = keyFrom(model, table, written) as KeyValues
  try {
    return (await store.get(table, key)) as ReadRecord
  } catch (error) {
    if (error instanceof RefusedError) return key
    throw error
  }
}

function created({ request, model, table, at, write }: Visit, record: ReadRecord): Response {
  const headers = { location: `${at}/${keyPath(model, table, record)}` }
  if (isMinimal(request)) return done({ ...headers, 'preference-applied': 'return=minimal' }, 201)
  return tell(request, write, { content: record, status: 201, headers })
}

/** Changes a record, by a merge patch (RFC 7386). */
export async function update(visit: Visit, key: KeyValues): Promise<Response> {
  const { request, url, model, table, store } = visit
  assertNoQuery(url.searchParams)
  const values = valuesFrom(model, table, await readObject(request, PATCH_TYPES))
  const tagged = taggedAs(visit)
  const changed = await merged(visit, key, values, (whole, unchanged) =>
    store.update(table, key, whole, providing(tagged, unchanged)),
  )
  return changedTo(visit, changed as ReadRecord)
}

/** Does something of the table's own to a record. */
export async function act(visit: Visit, key: KeyValues, action: string): Promise<Response> {
  const { request, url, model, table, store } = visit
  assertNoQuery(url.searchParams)
  const values = valuesFrom(model, table, await readObject(request, JSON_TYPES, true))
  return changedTo(visit, (await store.act(table, action, key, values, providing(taggedAs(visit)))) as ReadRecord)
}

/** Removes a record. */
export async function remove(visit: Visit, key: KeyValues): Promise<Response> {
  const { url, table, store } = visit
  assertNoQuery(url.searchParams)
  await store.delete(table, key, providing(taggedAs(visit)))
  return done()
}

function changedTo({ request, write }: Visit, record: ReadRecord): Response {
  if (isMinimal(request)) return done({ 'preference-applied': 'return=minimal' })
  return tell(request, write, { content: record })
}

type Provided = (record: ReadRecord) => boolean

/** What a request says with `If-Match` and `If-None-Match` of the record as it takes it to be, or not to be. */
function taggedAs({ request: { headers }, write }: Visit): Provided | undefined {
  const [is, isNot] = [headers.get('if-match'), headers.get('if-none-match')]
  if (is === null && isNot === null) return undefined
  return (record) => {
    const tag = tagOf(write(record))
    return (is === null || isAmong(is, tag)) && (isNot === null || !isAmong(isNot, tag))
  }
}

/** Writes provided that all hold that there are. */
function providing(...given: readonly (Provided | undefined)[]): { readonly provided?: Provided } {
  const all = given.filter((each) => each !== undefined)
  return all.length > 0 ? { provided: (record) => all.every((holds) => holds(record)) } : {}
}

/** Whether whoever asks wants no content (RFC 7240). */
const isMinimal = ({ headers }: Request): boolean =>
  /(?:^|[,;\s])return=minimal(?:$|[,;\s])/.test(headers.get('prefer') ?? '')
