import {
  checkValues,
  closedVerdict,
  type Inquiry,
  isClosed,
  recordToCreate,
  refusal,
  stampsToSet,
} from '../decide/index.js'
import { isMissing, type KeyValues, PachterError, readKey, tableOf } from '../model/index.js'
import {
  type Action,
  assertAction,
  changePermission,
  createPermission,
  isFixed,
  permission,
  rulesOf,
  specialise,
} from '../rules/index.js'
import { planChange, planCreate, planDelete } from '../sql/index.js'
import { type ReadRecord, seenAfterWrite } from './reads.js'
import { keySlots, problemsFound, run, type Session } from './session.js'
import type { Outcome } from './store.js'
import { inquire, inquireCreate } from './verdicts.js'

/** The record changed while it was being written, again and again; nothing was written. HTTP status 409. */
export class ConflictError extends PachterError {
  readonly code = 'conflict'
  readonly status = 409
}

/** How often a write that lost against another is tried before it gives up. */
const ATTEMPTS = 3

/** Stores a new record. */
export async function create(session: Session, table: string, given: unknown): Promise<ReadRecord> {
  const { rulebook, caller, dialect, clock } = session
  const now = clock()
  const found = await problemsFound(session, table, 'create', given)
  const values = checkValues(rulebook, table, given, { action: 'create', caller, now, found })
  const inquiry: Inquiry = { rulebook, table, action: 'create', caller, fields: Object.keys(values) }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const record = recordToCreate(rulebook, table, values, caller, now)
  const stored = Object.keys(record).filter((name) => !isMissing(record[name]))
  const condition = specialise(createPermission(rulebook, table, Object.keys(values)), caller)
  const statement = planCreate({ rulebook, dialect }, table, stored, condition)
  return attempt(table, async () => {
    const outcome = await run(session, statement, record, now)
    if (outcome.touched > 0) return seenAfterWrite(session, table, keyOf(session, table, record, outcome))
    const verdict = await inquireCreate(session, inquiry, record)
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  })
}

/** Changes a record, by an update or an action of the table's own. */
export async function change(
  session: Session,
  table: string,
  action: Action,
  givenKey: unknown,
  given: unknown,
): Promise<ReadRecord> {
  const { rulebook, caller, dialect } = session
  const key = readKey(rulebook.model, table, givenKey)
  assertAction(rulesOf(rulebook, table), table, action)
  const found = action === 'update' ? await problemsFound(session, table, action, given) : {}
  const values = checkValues(rulebook, table, given, { action, caller, now: session.clock(), found })
  const fields = Object.keys(values)
  const inquiry: Inquiry = { rulebook, table, action, caller, fields }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const condition = specialise(changePermission(rulebook, table, action, fields), caller)
  const changes = { given: fields, stamps: stampsToSet(rulebook, table, action, caller, values) }
  const settable = settableOf(session, table, action, fields).filter((name) => !Object.hasOwn(changes.stamps, name))
  const writes = settable.length > 0 || (action !== 'update' && Object.keys(changes.stamps).length > 0)
  const statement = writes && planChange({ rulebook, dialect }, table, changes, settable, condition)
  return attempt(table, async () => {
    const outcome = statement && (await run(session, statement, { ...values, ...keySlots(key) }))
    if (outcome && outcome.touched > 0) return seenAfterWrite(session, table, key)
    const { verdict, changed } = await inquire(session, inquiry, key, values)
    if (!verdict.allowed) throw refusal(verdict)
    return changed || (statement && fields.length === 0) ? undefined : seenAfterWrite(session, table, key)
  })
}

/** Removes a record. */
export async function remove(session: Session, table: string, givenKey: unknown): Promise<void> {
  const { rulebook, caller, dialect } = session
  const key = readKey(rulebook.model, table, givenKey)
  const inquiry: Inquiry = { rulebook, table, action: 'delete', caller }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const condition = specialise(permission(rulebook, table, 'delete'), caller)
  const statement = planDelete({ rulebook, dialect }, table, condition)
  await attempt(table, async () => {
    const { touched } = await run(session, statement, keySlots(key))
    if (touched > 0) return true
    const { verdict } = await inquire(session, inquiry, key)
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  })
}

/**
 * A statement that carries its condition wrote nothing, yet the look afterwards finds nothing in its way:
 * another request was faster in between. Then it is tried again.
 */
async function attempt<T>(table: string, write: () => Promise<T | undefined>): Promise<T> {
  for (let tries = 0; tries < ATTEMPTS; tries += 1) {
    const done = await write()
    if (done !== undefined) return done
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

/** The key of a record just created: as returned, or as given with whatever the database numbered itself. */
function keyOf(
  { rulebook, dialect }: Session,
  table: string,
  record: Readonly<Record<string, unknown>>,
  { rows: [row], createdId }: Outcome,
): KeyValues {
  const { key, fields } = tableOf(rulebook.model, table)
  const valueOf = (name: string) =>
    row || isMissing(record[name])
      ? dialect.fromDriver(fields[name] as never, row ? row[name] : createdId)
      : record[name]
  return Object.fromEntries(key.map((name) => [name, valueOf(name)])) as KeyValues
}
