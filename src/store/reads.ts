import { allOf, always, type Condition, normalise } from '../condition/index.js'
import { closedVerdict, fieldMasks, refusal, verdictFrom } from '../decide/index.js'
import { type KeyValues, readKey, tableOf } from '../model/index.js'
import { asSeen, checkAsked, expand, permission, specialise } from '../rules/index.js'
import {
  type Order,
  planCount,
  planExists,
  planRead,
  type ReadPlan,
  type ReadRequest,
  type RecordRequest,
  type RelatedRequest,
} from '../sql/index.js'
import { ask, asInput, type Asked, assertObject, type Given, type GivenOptions, type OPTIONS } from './ask.js'
import { type Choice, choose } from './choose.js'
import { compilationOf, keySlots, planned, run, type Session, withAnswer } from './session.js'

/** A record as it comes back. */
export type ReadRecord = Record<string, unknown>

/** How a list is going to be run. */
export interface ListPlan extends Choice {
  readonly text: string
  readonly values: readonly unknown[]
}

/** The records of a table this caller may list. */
export async function list(session: Session, table: string, options: GivenOptions): Promise<readonly ReadRecord[]> {
  const found = await planList(session, table, options)
  if (!found) return []
  const { rows } = await run(session, found.plan.statement, found.given)
  return rows.map((row) => found.plan.read(row as ReadRecord))
}

/** Says how a list is going to be run; nothing where it is empty without asking the database. */
export async function explain(session: Session, table: string, options: GivenOptions): Promise<ListPlan | undefined> {
  const found = await planList(session, table, options)
  if (!found) return undefined
  const { caller, clock } = session
  const { text, bind } = found.plan.statement
  return { ...found.choice, text, values: bind({ caller, clock, given: found.given }) }
}

async function planList(session: Session, table: string, options: GivenOptions) {
  const given: Given = {}
  const { asked, name, filter } = prepare(session, table, 'list', options, given)
  if (filter.kind === 'never') return undefined
  const wanted = isWalkable(session, asked)
    ? Number(given['$limit'] ?? Infinity) + Number(given['$offset'] ?? 0)
    : Infinity
  const chosen = choiceFor(session, options, filter, name, table, wanted)
  const choice = chosen instanceof Promise ? await chosen : chosen
  const { form } = choice
  const plan = planned(session, `${form} ${name}`, () =>
    planRead({ ...compilationOf(session), form }, readRequest(session, asked, filter)),
  )
  return { plan, given, choice }
}

/** How many records of a table this caller may list. */
export async function count(session: Session, table: string, options: GivenOptions): Promise<number> {
  const given: Given = {}
  const { name, filter } = prepare(session, table, 'count', options, given)
  if (filter.kind === 'never') return 0
  const { form } = await choiceFor(session, options, filter, name, table, Infinity)
  const statement = planned(session, `${form} count ${name}`, () =>
    planCount({ ...compilationOf(session), form }, table, filter),
  )
  const { rows } = await run(session, statement, given)
  return Number(rows[0]?.['count'])
}

/** Whether there is any record this caller may list. */
export async function exists(session: Session, table: string, options: GivenOptions): Promise<boolean> {
  const given: Given = {}
  const { name, filter } = prepare(session, table, 'count', options, given)
  if (filter.kind === 'never') return false
  const { form } = await choiceFor(session, options, filter, name, table, 1)
  const statement = planned(session, `${form} exists ${name}`, () =>
    planExists({ ...compilationOf(session), form }, table, filter),
  )
  const { rows } = await run(session, statement, given)
  return rows.length > 0
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
  return withAnswer(findByKey(session, table, key, {}), (record) => record ?? { ...key })
}

/** The record; nothing where the caller does not see one, `null` where the caller cannot see any. */
export function findByKey(
  session: Session,
  table: string,
  key: KeyValues,
  options: GivenOptions,
): Promise<ReadRecord | undefined> | ReadRecord | undefined | null {
  assertObject(table, 'get', options)
  const given: Given = keySlots(key)
  const plan = getPlan(session, table, options, given)
  if (!plan) return null
  return withAnswer(run(session, plan.statement, given), ({ rows: [row] }) => row && plan.read(row as ReadRecord))
}

function getPlan(session: Session, table: string, options: GivenOptions, given: Given): ReadPlan | false {
  const asked = isEmpty(options) ? undefined : askAs(session, table, 'get', options, given)
  return planned(session, asked ? `get ${table} ${JSON.stringify(asked)}` : `get ${table}`, () => {
    const filter = filterOf(session, table, 'get')
    if (filter.kind === 'never') return false
    const request = asked ? readRequest(session, asked, filter) : { table, caller: session.caller, filter }
    return planRead(compilationOf(session), { ...request, action: 'get', order: [], byKey: true })
  })
}

const isEmpty = (options: object): boolean => {
  for (const _ in options) return false
  return true
}

/** What a list or a count is about: what was asked, its name among the plans, and the whole condition. */
function prepare(
  session: Session,
  table: string,
  kind: 'list' | 'count',
  options: GivenOptions,
  given: Given,
): { readonly asked: Asked; readonly name: string; readonly filter: Condition } {
  const { rulebook, caller } = session
  const open = planned(session, `filter ${table}`, () => filterOf(session, table, 'list'))
  if (open.kind === 'never') throw refusal(closedVerdict({ rulebook, table, action: 'list', caller }))
  const { asked, name } = named(session, table, kind, options, given)
  const { where } = asked
  const filter = where ? planned(session, `filter ${name}`, () => filterOf(session, table, 'list', where)) : open
  return { asked, name, filter }
}

/** What was asked, and its name. The most frequent, a page in the order of the keys, is named without writing it out. */
function named(session: Session, table: string, kind: 'list' | 'count', options: GivenOptions, given: Given) {
  const make = () => {
    const asked = askAs(session, table, kind, options, given)
    return { asked, name: `list ${table} ${JSON.stringify(asked)}` }
  }
  assertObject(table, kind, options)
  for (const option in options) if (option !== 'limit' && option !== 'access') return make()
  const { limit, access } = options
  if (limit !== undefined && !(Number.isSafeInteger(limit) && limit >= 0)) return make()
  if (access !== undefined && typeof access !== 'boolean') return make()
  if (limit !== undefined) given['$limit'] = limit
  return planned(session, `${kind} ${table}${limit === undefined ? '' : ' limit'}${access ? ' access' : ''}`, make)
}

function askAs(session: Session, table: string, kind: keyof typeof OPTIONS, options: GivenOptions, given: Given) {
  return ask(session.rulebook.model, table, kind, options, given, (field) => masksOf(session, table).has(field))
}

function masksOf(session: Session, table: string): ReadonlyMap<string, Condition> {
  const { rulebook, caller } = session
  return planned(session, `masks ${table}`, () => fieldMasks(rulebook, table, caller, 'list'))
}

function choiceFor(
  session: Session,
  { form }: GivenOptions,
  filter: Condition,
  name: string,
  table: string,
  wanted: number,
): Choice | Promise<Choice> {
  return form ? { form } : choose(session, table, filter, name, wanted)
}

/** Whether the order is one that an index is likely to have: that of the key. */
function isWalkable({ rulebook }: Session, { table, order }: Asked): boolean {
  return order[0]?.field === tableOf(rulebook.model, table).key[0]
}

/** The condition on what the caller may read of what was asked, decided for this caller. */
function filterOf({ rulebook, caller }: Session, table: string, action: 'list' | 'get', where?: Condition): Condition {
  tableOf(rulebook.model, table)
  const permitted = permission(rulebook, table, action)
  if (!where) return specialise(permitted, caller)
  asInput(table, () => checkAsked(rulebook, table, where))
  // From trusted code nothing is hidden, and it may do everything.
  if (caller.trusted !== undefined) return normalise(where, (leaf) => (leaf.kind === 'may' ? always : leaf))
  return specialise(allOf(permitted, expand(rulebook, asSeen(rulebook, where, [table]))), caller)
}

function readRequest(session: Session, asked: Asked, filter: Condition): ReadRequest {
  return {
    ...recordRequest(session, asked),
    filter,
    order: ordersOf(session, asked, filter),
    ...(asked.after && { after: asked.after }),
    limited: asked.limit !== undefined,
    skipping: asked.offset !== undefined,
  }
}

function recordRequest(session: Session, { table, fields, access, related }: Asked): RecordRequest {
  return {
    table,
    caller: session.caller,
    action: 'list',
    access,
    ...(fields && { fields }),
    related: related.map(({ relation, asked }): RelatedRequest => {
      const filter = filterOf(session, relation.table, 'list', asked.where)
      return {
        ...recordRequest(session, asked),
        relation,
        filter,
        order: ordersOf(session, asked, filter),
        ...(asked.most !== undefined && { limit: asked.most }),
      }
    }),
  }
}

/** Where a field is seen in all records that can come, its index serves. */
function ordersOf({ rulebook, caller }: Session, { table, order }: Asked, filter: Condition): readonly Order[] {
  const masks = fieldMasks(rulebook, table, caller, 'list', filter)
  return order.map((each) => {
    const sight = masks.get(each.field)
    return sight ? { ...each, sight } : each
  })
}
