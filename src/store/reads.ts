import type { Condition } from '../condition/index.js'
import { type Access, accessFrom, accessQuestions, closedVerdict, refusal, verdictFrom } from '../decide/index.js'
import { InputError, type KeyValues, readKey, tableOf } from '../model/index.js'
import { permission, specialise } from '../rules/index.js'
import { planCount, planRead } from '../sql/index.js'
import { keySlots, run, type Session } from './session.js'

/** A record as it comes back, with what the caller may do to it where that was asked. */
export type ReadRecord = Record<string, unknown> & { readonly $access?: Access }

/** What a `list` may be asked besides. */
export interface ListOptions {
  /** Adds to each record, as `$access`, what the caller may do to it; still one query. */
  readonly access?: boolean
  /** At most so many records, 0 or more; left out, all. */
  readonly limit?: number
}

/** The records of a table this caller may list, in the order of their keys. */
export async function list(session: Session, table: string, options: ListOptions): Promise<readonly ReadRecord[]> {
  const { rulebook, caller, dialect } = session
  const { access = false, limit } = options
  if (limit !== undefined && (!Number.isSafeInteger(limit) || limit < 0)) {
    throw new InputError(table, { limit: 'must be a whole number, 0 or more' })
  }
  const filter = filterFor(session, table, 'list')
  const plan = planRead({
    rulebook,
    dialect,
    table,
    caller,
    action: 'list',
    filter,
    limited: limit !== undefined,
    questions: access ? accessQuestions(rulebook, table, caller) : [],
  })
  const { rows } = await run(session, plan.statement, { $limit: limit })
  return rows.map((row) => {
    const { record, facts } = plan.read(row)
    return access ? { ...record, $access: accessFrom(rulebook, table, caller, facts) } : record
  })
}

/** The record with that key. */
export async function get(session: Session, table: string, givenKey: unknown): Promise<ReadRecord> {
  const { rulebook, caller } = session
  const key = readKey(rulebook.model, table, givenKey)
  const filter = filterFor(session, table, 'get')
  const record = await findByKey(session, table, key, filter)
  if (record) return record
  throw refusal(verdictFrom({ rulebook, table, action: 'get', caller }, () => false))
}

/** How many records of a table this caller may list. */
export async function count(session: Session, table: string): Promise<number> {
  const filter = filterFor(session, table, 'list')
  const {
    rows: [row],
  } = await run(session, planCount(session.rulebook, session.dialect, table, filter))
  return Number(row?.['count'])
}

/** The record as the caller sees it after a write; only its key where the caller no longer does. */
export async function seenAfterWrite(session: Session, table: string, key: KeyValues): Promise<ReadRecord> {
  const filter = specialise(permission(session.rulebook, table, 'get'), session.caller)
  return (await findByKey(session, table, key, filter)) ?? { ...key }
}

async function findByKey(
  session: Session,
  table: string,
  key: KeyValues,
  filter: Condition,
): Promise<ReadRecord | undefined> {
  if (filter.kind === 'never') return undefined
  const { rulebook, caller, dialect } = session
  const plan = planRead({ rulebook, dialect, table, caller, action: 'get', filter, byKey: true })
  const {
    rows: [row],
  } = await run(session, plan.statement, keySlots(key))
  return row && plan.read(row).record
}

/** The condition on what the caller may read; refuses at once where that is nothing. */
function filterFor({ rulebook, caller }: Session, table: string, action: 'list' | 'get'): Condition {
  tableOf(rulebook.model, table)
  const filter = specialise(permission(rulebook, table, action), caller)
  if (filter.kind === 'never') throw refusal(closedVerdict({ rulebook, table, action, caller }))
  return filter
}
