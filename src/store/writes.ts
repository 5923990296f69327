import { contains } from '../condition/index.js'
import {
  closedVerdict,
  checkValues,
  type Inquiry,
  isClosed,
  recordToCreate,
  refusal,
  stampsToSet,
} from '../decide/index.js'
import { isMissing, type KeyValues, type ModelData, readKey, tableOf } from '../model/index.js'
import {
  type Action,
  assertAction,
  changePermission,
  createPermission,
  dependsOn,
  isFixed,
  permission,
  rulesOf,
  specialise,
} from '../rules/index.js'
import { planChange, planCreate, planDelete, type RecordRequest, type WritePlan } from '../sql/index.js'
import { ConflictError } from './errors.js'
import { type ReadRecord, seenAfterWrite } from './reads.js'
import { keySlots, planned, problemsFound, run, type Session, withAnswer } from './session.js'
import type { Outcome } from './store.js'
import { inquire, inquireCreate } from './verdicts.js'

/** How often a write that lost against another is tried before it gives up. */
const ATTEMPTS = 3

/** Stores a new record. */
export async function create(session: Session, table: string, given: unknown): Promise<ReadRecord> {
  const { rulebook, caller, dialect, clock } = session
  const now = clock()
  const found = await problemsFound(session, table, 'create', given)
  const values = checkValues(rulebook, table, given, { action: 'create', caller, now, found })
  const fields = Object.keys(values)
  const inquiry: Inquiry = { rulebook, table, action: 'create', caller, fields }
  refuseClosed(session, inquiry)
  const record = recordToCreate(rulebook, table, values, caller, now)
  const stored = Object.keys(record).filter((name) => !isMissing(record[name]))
  const { statement, read } = planned(session, `create ${table} ${fields.join()} ${stored.join()}`, () =>
    planCreate(
      { rulebook, dialect },
      stored,
      specialise(createPermission(rulebook, table, fields), caller),
      returned(session, table),
    ),
  )
  return attempt(session, table, async () => {
    const outcome = await run(session, statement, record, now)
    const [row] = outcome.rows
    if (row) return read(row as ReadRecord)
    if (outcome.touched > 0) return seenAfterWrite(session, table, keyOf(session, table, record, outcome))
    const verdict = await inquireCreate(session, inquiry, record)
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  })
}

/** A change that was checked, and the statement for it. */
interface Change {
  readonly values: Readonly<Record<string, unknown>>
  readonly inquiry: Inquiry
  /** What writes it to so many records; nothing where nothing can be written. */
  planFor(records: number): WritePlan | false
}

/** Checks an update, or an action of the table's own, as far as no record is needed for that. */
export function prepareChange(
  session: Session,
  table: string,
  action: Action,
  given: unknown,
): Change | Promise<Change> {
  assertAction(rulesOf(session.rulebook, table), table, action)
  const found = action === 'update' ? problemsFound(session, table, action, given) : {}
  return withAnswer(found, (problems) => changeOf(session, table, action, given, problems))
}

function changeOf(
  session: Session,
  table: string,
  action: Action,
  given: unknown,
  found: Readonly<Record<string, string>>,
): Change {
  const { rulebook, caller, dialect, clock } = session
  const values = checkValues(rulebook, table, given, { action, caller, now: clock(), found })
  const fields = Object.keys(values)
  const inquiry: Inquiry = { rulebook, table, action, caller, fields }
  const plans = planned(session, `change ${action} ${table} ${fields.join()}`, () => ({
    closed: isClosed(inquiry),
    bySize: new Map<number, WritePlan | false>(),
  }))
  if (plans.closed) throw refusal(closedVerdict(inquiry))
  const planFor = (records: number) => {
    const kept = plans.bySize.get(records)
    if (kept !== undefined) return kept
    const changes = { given: fields, stamps: stampsToSet(rulebook, table, action, caller, values) }
    const settable = settableOf(session, table, action, fields).filter((name) => !Object.hasOwn(changes.stamps, name))
    const writes = settable.length > 0 || (action !== 'update' && Object.keys(changes.stamps).length > 0)
    const condition = specialise(changePermission(rulebook, table, action, fields), caller)
    const made =
      writes &&
      planChange(
        { rulebook, dialect },
        changes,
        settable,
        condition,
        returned(session, table, [...fields, ...Object.keys(changes.stamps)]),
        records,
      )
    plans.bySize.set(records, made)
    return made
  }
  return { values, inquiry, planFor }
}

/** Changes a record, by an update or an action of the table's own. */
export async function change(
  session: Session,
  table: string,
  action: Action,
  givenKey: unknown,
  given: unknown,
): Promise<ReadRecord> {
  const key = readKey(session.rulebook.model, table, givenKey)
  const prepared = prepareChange(session, table, action, given)
  const { values, inquiry, planFor } = prepared instanceof Promise ? await prepared : prepared
  const plan = planFor(1)
  const explain = async () => {
    const { verdict, changed } = await inquire(session, inquiry, key, values)
    if (!verdict.allowed) throw refusal(verdict)
    const acts = plan && inquiry.fields?.length === 0
    return changed || acts ? undefined : seenAfterWrite(session, table, key)
  }
  if (!plan) return attempt(session, table, explain)
  const slots = { ...values, ...keySlots(key) }
  return attempt(session, table, () =>
    withAnswer(run(session, plan.statement, slots), ({ rows: [row], touched }) => {
      if (row) return plan.read(row as ReadRecord)
      return touched > 0 ? seenAfterWrite(session, table, key) : explain()
    }),
  )
}

/** Removes a record. */
export async function remove(session: Session, table: string, givenKey: unknown): Promise<void> {
  const key = readKey(session.rulebook.model, table, givenKey)
  const { inquiry, planFor } = prepareRemoval(session, table)
  const statement = planFor(1)
  await attempt(session, table, async () => {
    const { touched } = await run(session, statement, keySlots(key))
    if (touched > 0) return true
    const { verdict } = await inquire(session, inquiry, key)
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  })
}

/** The statement that removes so many records. */
export function prepareRemoval(session: Session, table: string) {
  const { rulebook, caller, dialect } = session
  const inquiry: Inquiry = { rulebook, table, action: 'delete', caller }
  refuseClosed(session, inquiry)
  const planFor = (records: number) =>
    planned(session, `delete ${table} ${records}`, () =>
      planDelete({ rulebook, dialect }, table, specialise(permission(rulebook, table, 'delete'), caller), records),
    )
  return { inquiry, planFor }
}

/** The key that stands among a record's values. */
export const keyAmong = (model: ModelData, table: string, values: Readonly<Record<string, unknown>>): KeyValues =>
  readKey(model, table, Object.fromEntries(tableOf(model, table).key.map((name) => [name, values[name]])))

/** Refuses, without asking the database, what no record could be open to. */
function refuseClosed(session: Session, inquiry: Inquiry): void {
  const closed = planned(session, `closed ${inquiry.action} ${inquiry.table}`, () => ({ is: isClosed(inquiry) }))
  if (closed.is) throw refusal(closedVerdict(inquiry))
}

/**
 * What a write gives back: the record, as far as the caller sees it afterwards.
 *
 * @param changed the fields it changes; left out, all. A change needs sight before, which lasts unless it touches
 *   what sight depends on: a field, or another record of the same table, which may be this one.
 */
function returned({ rulebook, caller }: Session, table: string, changed?: readonly string[]): RecordRequest {
  const sight = specialise(permission(rulebook, table, 'get'), caller)
  const lasts =
    changed !== undefined &&
    !dependsOn(sight, changed) &&
    !contains(sight, (part) => part.kind === 'some' && part.table === table)
  return { table, caller, action: 'get', ...(!lasts && { sight }) }
}

/**
 * A statement that carries its condition wrote nothing, yet the look afterwards finds nothing in its way:
 * another request was faster in between. Then it is tried again.
 */
async function attempt<T>(
  { dialect }: Session,
  table: string,
  write: () => T | undefined | Promise<T | undefined>,
): Promise<T> {
  for (let tries = 0; tries < ATTEMPTS; tries += 1) {
    try {
      const answer = write()
      const done = answer instanceof Promise ? await answer : answer
      if (done !== undefined) return done
    } catch (error) {
      if (typeof error !== 'object' || error === null || !dialect.duplicate(error)) throw error
      const message = `There is a record of ${table} with the same key, or the same values where they have to be unique; nothing was written.`
      throw new ConflictError(message, { cause: error })
    }
  }
  throw new ConflictError(`A record of ${table} kept changing while it was being written; nothing was written.`)
}

/** The fields that some grant could let this action set; trusted code sets what it likes but keys. */
function settableOf(
  { rulebook, caller }: Session,
  table: string,
  action: Action,
  fields: readonly string[],
): readonly string[] {
  const { key } = tableOf(rulebook.model, table)
  return fields.filter((name) =>
    caller.trusted === undefined ? !isFixed(rulebook, table, action, name) : !key.includes(name),
  )
}

/** The key of a record just created: as given, with whatever the database numbered itself. */
function keyOf(
  { rulebook, dialect }: Session,
  table: string,
  record: Readonly<Record<string, unknown>>,
  { createdId }: Outcome,
): KeyValues {
  const { key, fields } = tableOf(rulebook.model, table)
  const valueOf = (name: string) =>
    isMissing(record[name]) ? (dialect.reader(fields[name] as never)?.(createdId) ?? createdId) : record[name]
  return Object.fromEntries(key.map((name) => [name, valueOf(name)])) as KeyValues
}
