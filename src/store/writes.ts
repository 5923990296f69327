import { checkValues, closedVerdict, type Inquiry, isClosed, recordToCreate, refusal } from '../decide/index.js'
import { isMissing, type KeyValues, PachterError, readKey, tableOf } from '../model/index.js'
import { createPermission, permission, rulesOf, specialise, updatePermission } from '../rules/index.js'
import { type DriverRow, planCreate, planDelete, planUpdate } from '../sql/index.js'
import { type ReadRecord, seenAfterWrite } from './reads.js'
import { keySlots, run, type Session } from './session.js'
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
  const { rulebook, caller, store, clock } = session
  const values = checkValues(rulebook.model, table, given)
  const inquiry: Inquiry = { rulebook, table, action: 'create', caller, fields: Object.keys(values) }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const now = clock()
  const record = recordToCreate(rulebook, table, values, caller, now)
  const stored = Object.keys(record).filter((name) => !isMissing(record[name]))
  const condition = specialise(createPermission(rulebook, table, Object.keys(values)), caller)
  const statement = planCreate({ rulebook, dialect: store.dialect }, table, stored, condition)
  return attempt(table, async () => {
    const [row] = await run(session, statement, record, now)
    if (row) return seenAfterWrite(session, table, keyFrom(session, table, row))
    const verdict = await inquireCreate(session, inquiry, record)
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  })
}

/** Changes a record. */
export async function update(session: Session, table: string, givenKey: unknown, given: unknown): Promise<ReadRecord> {
  const { rulebook, caller, store, clock } = session
  const key = readKey(rulebook.model, table, givenKey)
  const values = checkValues(rulebook.model, table, given)
  const fields = Object.keys(values)
  const inquiry: Inquiry = { rulebook, table, action: 'update', caller, fields }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const condition = specialise(updatePermission(rulebook, table, fields), caller)
  const settable = settableOf(session, table, fields)
  const statement = settable.length > 0 && planUpdate({ rulebook, dialect: store.dialect }, table, fields, condition)
  return attempt(table, async () => {
    const now = clock()
    const [row] = statement ? await run(session, statement, { ...values, ...keySlots(key) }, now) : []
    if (row) return seenAfterWrite(session, table, key)
    const { verdict, changed } = await inquire(session, inquiry, key, values)
    if (!verdict.allowed) throw refusal(verdict)
    return changed ? undefined : seenAfterWrite(session, table, key)
  })
}

/** Removes a record. */
export async function remove(session: Session, table: string, givenKey: unknown): Promise<void> {
  const { rulebook, caller, store } = session
  const key = readKey(rulebook.model, table, givenKey)
  const inquiry: Inquiry = { rulebook, table, action: 'delete', caller }
  if (isClosed(inquiry)) throw refusal(closedVerdict(inquiry))
  const condition = specialise(permission(rulebook, table, 'delete'), caller)
  const statement = planDelete({ rulebook, dialect: store.dialect }, table, condition)
  await attempt(table, async () => {
    const rows = await run(session, statement, keySlots(key))
    if (rows.length > 0) return true
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

function settableOf({ rulebook }: Session, table: string, fields: readonly string[]): readonly string[] {
  const { key } = tableOf(rulebook.model, table)
  const stamps = rulesOf(rulebook, table).stamps.update
  return fields.filter((name) => !key.includes(name) && !Object.hasOwn(stamps, name))
}

function keyFrom({ rulebook, store }: Session, table: string, row: DriverRow): KeyValues {
  const { key, fields } = tableOf(rulebook.model, table)
  return Object.fromEntries(
    key.map((name) => [name, store.dialect.fromDriver(fields[name] as never, row[name])]),
  ) as KeyValues
}
