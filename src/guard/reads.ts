import type { Condition } from '../condition/index.js'
import { closedVerdict, fieldMasks, refusal, verdictFrom } from '../decide/index.js'
import { type KeyValues, readKey } from '../model/index.js'
import { ask, type Asked, type AskedFor, assertForm, assertObject, type GivenOptions, type OPTIONS } from './ask.js'
import { withAnswer } from './answer.js'
import {
  type CountRequest,
  type Form,
  type Given,
  LIMIT,
  type ListPlan,
  type ListRequest,
  type ReadRecord,
} from './backend.js'
import type { PlanKinds } from './plans.js'
import { filterOf, listRequest, recordRequest, refuseClosed } from './requests.js'
import { bindingsOf, keySlots, lasting, planned, run, type Session } from './session.js'

/** The records of a table this caller may list. */
export async function list(session: Session, table: string, options: GivenOptions): Promise<readonly ReadRecord[]> {
  const { plan, given } = prepareList(session, table, options)
  return plan ? run(session, plan, given) : []
}

/** Says how a list is going to be run; nothing where it is empty without asking the database. */
export async function explain(session: Session, table: string, options: GivenOptions): Promise<ListPlan | undefined> {
  const { plan, given } = prepareList(session, table, options)
  return plan?.explain(session.place, bindingsOf(session, given))
}

/** What a list is going to look at; nothing where it is empty without asking the database. */
export function basis(session: Session, table: string, options: GivenOptions): ListRequest | undefined {
  const { rulebook, caller } = session
  refuseClosed(session, { rulebook, table, action: 'list', caller })
  assertObject(table, 'list', options)
  return requestFor(session, askAs(session, table, 'list', options).asked, options.form)
}

/** How many records of a table this caller may list. */
export async function count(session: Session, table: string, options: GivenOptions): Promise<number> {
  const { name, given, request } = prepareCount(session, table, options)
  const { plan } = planned(session, 'count', name, () => {
    const wanted = request()
    return { plan: wanted && session.backend.count(wanted) }
  })
  return plan ? run(session, plan, given) : 0
}

/** Whether there is any record this caller may list. */
export async function exists(session: Session, table: string, options: GivenOptions): Promise<boolean> {
  const { name, given, request } = prepareCount(session, table, options)
  const { plan } = planned(session, 'exists', name, () => {
    const wanted = request()
    return { plan: wanted && session.backend.exists(wanted) }
  })
  return plan ? run(session, plan, given) : false
}

/** The record with that key. */
export async function get(
  session: Session,
  table: string,
  givenKey: unknown,
  options: GivenOptions = {},
): Promise<ReadRecord> {
  const key = readKey(session.rulebook.model, table, givenKey)
  const found = findByKey(session, table, key, options)
  const record = found instanceof Promise ? await found : found
  if (record) return record
  const { rulebook, caller } = session
  const inquiry = { rulebook, table, action: 'get', caller }
  throw refusal(record === null ? closedVerdict(inquiry) : verdictFrom(inquiry, () => false))
}

/** The record as the caller sees it after a write; only its key where the caller no longer does. */
export function seenAfterWrite(session: Session, table: string, key: KeyValues): ReadRecord | Promise<ReadRecord> {
  return withAnswer(findByKey(lasting(session), table, key, {}), (record) => record ?? { ...key })
}

/** The record; nothing where the caller does not see one, `null` where the caller cannot see any. */
export function findByKey(
  session: Session,
  table: string,
  key: KeyValues,
  options: GivenOptions,
): Promise<ReadRecord | undefined> | ReadRecord | undefined | null {
  assertObject(table, 'get', options)
  const { plan, given } = prepareGet(session, table, options)
  return plan ? withAnswer(run(session, plan, Object.assign(keySlots(key), given)), (records) => records[0]) : null
}

/** Those of the records that the caller sees. */
export async function findByKeys(
  session: Session,
  table: string,
  keys: readonly KeyValues[],
): Promise<readonly ReadRecord[]> {
  const { plan } = prepareGet(session, table, {}, keys.length)
  return plan ? run(session, plan, keySlots(...keys)) : []
}

function prepareGet(
  session: Session,
  table: string,
  options: GivenOptions,
  records = 1,
): PlanKinds['get'] & { readonly given: Given } {
  const { asked, given } = isEmpty(options) ? NOTHING_ASKED : askAs(session, table, 'get', options)
  const { plan } = planned(session, 'get', asked ? [table, asked] : [table, records], () => {
    const filter = filterOf(session, table, 'get')
    if (filter.kind === 'never') return { plan: undefined }
    const record = recordRequest(session, asked ?? { table, access: false, related: [] }, 'get', filter)
    return { plan: session.backend.get({ ...record, filter, records }) }
  })
  return { plan, given }
}

const NOTHING_ASKED: { readonly asked?: Asked; readonly given: Given } = Object.freeze({ given: Object.freeze({}) })

const isEmpty = (options: object): boolean => {
  for (const _ in options) return false
  return true
}

/** A list that is ready to be run, if any record can come. */
type Prepared = PlanKinds['list'] & { readonly given: Given }

function prepareList(session: Session, table: string, options: GivenOptions): Prepared {
  const { rulebook, caller } = session
  refuseClosed(session, { rulebook, table, action: 'list', caller })
  const make = (asked: Asked) => {
    const request = requestFor(session, asked, options.form)
    return { plan: request && session.backend.list(request) }
  }
  assertObject(table, 'list', options)
  if (isPage(options)) {
    // The most frequent, a page in the order of the keys, is found without going through what was asked.
    const { limit, access } = options
    const name = [table, limit !== undefined, access === true]
    const { plan } = planned(session, 'list', name, () => make(askAs(session, table, 'list', options).asked))
    return { plan, given: limit === undefined ? {} : { [LIMIT]: limit } }
  }
  const { asked, given } = askAs(session, table, 'list', options)
  return { ...planned(session, 'list', [table, asked, options.form], () => make(asked)), given }
}

function requestFor(session: Session, asked: Asked, form: Form | undefined): ListRequest | undefined {
  const filter = filterOf(session, asked.table, 'list', asked.where)
  return filter.kind === 'never' ? undefined : listRequest(session, asked, filter, form)
}

function isPage(options: GivenOptions): boolean {
  for (const option in options) if (option !== 'limit' && option !== 'access') return false
  const { limit, access } = options
  return (
    (limit === undefined || (Number.isSafeInteger(limit) && limit >= 0)) &&
    (access === undefined || typeof access === 'boolean')
  )
}

/** What to count, under which name; nothing where there can be none. */
function prepareCount(session: Session, table: string, options: GivenOptions) {
  const { rulebook, caller } = session
  refuseClosed(session, { rulebook, table, action: 'list', caller })
  assertObject(table, 'count', options)
  const request = (where?: Condition): CountRequest | undefined => {
    const filter = filterOf(session, table, 'list', where)
    return filter.kind === 'never' ? undefined : { table, filter, ...(options.form && { form: options.form }) }
  }
  if (isEmpty(options)) return { name: [table], given: {}, request }
  const { asked, given } = askAs(session, table, 'count', options)
  return { name: [table, asked, options.form], given, request: () => request(asked.where) }
}

function askAs(session: Session, table: string, kind: keyof typeof OPTIONS, options: GivenOptions): AskedFor {
  assertForm(options.form)
  return ask(session.rulebook.model, table, kind, options, (field) => masksOf(session, table).has(field))
}

function masksOf(session: Session, table: string): ReadonlyMap<string, Condition> {
  const { rulebook, caller } = session
  return planned(session, 'masks', [table], () => fieldMasks(rulebook, table, caller, 'list'))
}
