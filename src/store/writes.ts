import { type Condition, contains } from '../condition/index.js'
import {
  assertFit,
  closedVerdict,
  fieldMasks,
  type Inquiry,
  isClosed,
  type Reading,
  readValues,
  recordToCreate,
  refusal,
  stampsToSet,
  unstamped,
  type Verdict,
} from '../decide/index.js'
import { type FieldData, isMissing, type KeyValues, type ModelData, readKey, tableOf } from '../model/index.js'
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
import { planChange, planCreate, planDelete, readerFor, type RecordRequest, type WritePlan } from '../sql/index.js'
import { attempt, lockParents, lockRecords } from './attempt.js'
import { type ReadRecord, seenAfterWrite } from './reads.js'
import { compilationOf, keySlots, planned, problemsFound, run, type Session, withAnswer } from './session.js'
import type { Outcome } from './store.js'
import { inquire, inquireCreate } from './verdicts.js'

/** Stores a new record. */
export async function create(session: Session, table: string, given: unknown): Promise<ReadRecord> {
  tableOf(session.rulebook.model, table)
  refuseClosed(session, { rulebook: session.rulebook, table, action: 'create', caller: session.caller })
  const found = await problemsFound(session, table, 'create', given)
  return createRead(session, table, readValues(session.rulebook, table, 'create', given, found))
}

async function createRead(session: Session, table: string, reading: Reading): Promise<ReadRecord> {
  const { rulebook, caller, clock } = session
  const now = clock()
  const { values, fields, unfit } = reading
  const record = recordToCreate(rulebook, table, values, caller, now)
  const inquiry: Inquiry = { rulebook, table, action: 'create', caller, fields, unfit }
  const explain = async (asked: Session): Promise<undefined> => {
    const verdict = await inquireCreate(asked, inquiry, record)
    if (isRefusal(verdict)) throw refusal(verdict)
    assertFit(table, reading.problems, verdict.invalid)
    assertFit(table, unstamped(rulebook, table, record))
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  }
  if (reading.problems.size > 0 || unstamped(rulebook, table, record).size > 0) await explain(session)
  const stored = Object.keys(record).filter((name) => !isMissing(record[name]))
  const { plan, rests } = planned(session, `create ${table} ${fields.join()} ${stored.join()}`, () => {
    const condition = specialise(createPermission(rulebook, table, fields), caller)
    const plan = planCreate(compilationOf(session), stored, condition, table, returned(session, table))
    return { plan, rests: restsOnOthers(condition) }
  })
  return attempt(session, {
    table,
    rests,
    lock: (inside) => lockParents(inside, table, record),
    write: async (inside) => {
      const outcome = await run(inside, plan.statement, record, now)
      const [row] = outcome.rows
      if (row && plan.read) return plan.read(row as ReadRecord)
      return outcome.touched > 0 ? seenAfterWrite(inside, table, keyOf(inside, table, record, outcome)) : undefined
    },
    explain,
  })
}

/** A change that was read, and the statement for it. */
export interface Change {
  readonly reading: Reading
  readonly inquiry: Inquiry
  /** What writes it to so many records; nothing where nothing can be written. */
  planFor(records: number): ChangePlan | false
}

interface ChangePlan extends WritePlan {
  readonly rests: boolean
  readonly condition: Condition
}

/** Reads an update, or an action of the table's own, as far as no record is needed for that. */
export function prepareChange(
  session: Session,
  table: string,
  action: Action,
  given: unknown,
): Change | Promise<Change> {
  const { rulebook, caller } = session
  tableOf(rulebook.model, table)
  assertAction(rulesOf(rulebook, table), table, action)
  refuseClosed(session, { rulebook, table, action, caller })
  return withAnswer(problemsFound(session, table, action, given), (found) =>
    changeOf(session, table, action, readValues(rulebook, table, action, given, found)),
  )
}

function changeOf(session: Session, table: string, action: Action, reading: Reading): Change {
  const { rulebook, caller } = session
  const { values, fields, unfit } = reading
  const inquiry: Inquiry = { rulebook, table, action, caller, fields, unfit }
  const bySize = planned(
    session,
    `change ${action} ${table} ${fields.join()}`,
    () => new Map<number, ChangePlan | false>(),
  )
  const planFor = (records: number) => {
    const kept = bySize.get(records)
    if (kept !== undefined) return kept
    const changes = {
      given: fields,
      stamps: stampsToSet(rulebook, table, action, caller, values),
      acts: action !== 'update',
    }
    const settable = settableOf(session, table, action, fields).filter((name) => !Object.hasOwn(changes.stamps, name))
    const writes = settable.length > 0 || (action !== 'update' && Object.keys(changes.stamps).length > 0)
    const condition = specialise(changePermission(rulebook, table, action, fields), caller)
    const request = returned(session, table, [...fields, ...Object.keys(changes.stamps)])
    const made = writes && {
      ...planChange(compilationOf(session), changes, settable, condition, table, request, records),
      condition,
      rests: restsOnOthers(condition),
    }
    bySize.set(records, made)
    return made
  }
  return { reading, inquiry, planFor }
}

/** Changes a record, by an update or an action of the table's own. */
export async function change(
  session: Session,
  table: string,
  action: Action,
  givenKey: unknown,
  given: unknown,
): Promise<ReadRecord> {
  const prepared = prepareChange(session, table, action, given)
  const ready = prepared instanceof Promise ? await prepared : prepared
  return changeOne(session, table, readKey(session.rulebook.model, table, givenKey), ready)
}

function changeOne(
  session: Session,
  table: string,
  key: KeyValues,
  { reading, inquiry, planFor }: Change,
): ReadRecord | Promise<ReadRecord> {
  const { values, problems } = reading
  const plan = problems.size === 0 && planFor(1)
  const explain = async (asked: Session) => {
    const { verdict, changed } = await inquire(asked, inquiry, key, values)
    if (isRefusal(verdict)) throw refusal(verdict)
    assertFit(table, problems, verdict.invalid)
    if (!verdict.allowed) throw refusal(verdict)
    const acts = plan && inquiry.action !== 'update'
    return changed || acts ? undefined : seenAfterWrite(asked, table, key)
  }
  const slots = { ...values, ...keySlots(key) }
  return attempt(session, {
    table,
    rests: plan && plan.rests,
    lock: async (inside) => (await lockParents(inside, table, values)) && (await lockRecords(inside, table, [key])),
    write: (inside) => {
      if (!plan) return undefined
      return withAnswer(run(inside, plan.statement, slots), ({ rows: [row], touched }) => {
        if (row && plan.read) return plan.read(row as ReadRecord)
        return touched > 0 ? seenAfterWrite(inside, table, key) : undefined
      })
    },
    explain,
  })
}

/** Removes a record. */
export async function remove(session: Session, table: string, givenKey: unknown): Promise<void> {
  const { inquiry, rests, planFor } = prepareRemoval(session, table)
  const key = readKey(session.rulebook.model, table, givenKey)
  const statement = planFor(1)
  await attempt(session, {
    table,
    rests,
    lock: (inside) => lockRecords(inside, table, [key]),
    write: (inside) => withAnswer(run(inside, statement, keySlots(key)), ({ touched }) => touched > 0 || undefined),
    explain: async (asked) => {
      const { verdict } = await inquire(asked, inquiry, key)
      if (!verdict.allowed) throw refusal(verdict)
      return undefined
    },
  })
}

/** The statement that removes so many records. */
export function prepareRemoval(session: Session, table: string) {
  const { rulebook, caller } = session
  tableOf(rulebook.model, table)
  const inquiry: Inquiry = { rulebook, table, action: 'delete', caller }
  refuseClosed(session, inquiry)
  const { condition, rests } = planned(session, `removal ${table}`, () => {
    const condition = specialise(permission(rulebook, table, 'delete'), caller)
    return { condition, rests: restsOnOthers(condition) }
  })
  const planFor = (records: number) =>
    planned(session, `delete ${table} ${records}`, () => planDelete(compilationOf(session), table, condition, records))
  return { inquiry, condition, rests, planFor }
}

/** Whether a condition looks at other records than the one it is about. */
const restsOnOthers = (condition: Condition): boolean => contains(condition, ({ kind }) => kind === 'some')

/** Whether a verdict is that there is nothing to write for this caller, whatever the values. */
const isRefusal = ({ status }: Verdict): boolean => status !== 200 && status !== 422

/** The key that stands among a record's values. */
export const keyAmong = (model: ModelData, table: string, values: Readonly<Record<string, unknown>>): KeyValues =>
  readKey(model, table, Object.fromEntries(tableOf(model, table).key.map((name) => [name, values[name]])))

/** Refuses, without asking the database, what no record could be open to. */
export function refuseClosed(session: Session, inquiry: Inquiry): void {
  const closed = planned(session, `closed ${inquiry.action} ${inquiry.table}`, () => ({ is: isClosed(inquiry) }))
  if (closed.is) throw refusal(closedVerdict(inquiry))
}

/**
 * What a write gives back: the record, as far as the caller sees it afterwards. Nothing where that has to be asked anew,
 * since what it hangs on is records of the same table, which this may be one of: the statement saw them as they were.
 *
 * @param changed the fields it changes; left out, all. A change needs sight before, which lasts unless it touches
 *   what sight depends on.
 */
function returned(session: Session, table: string, changed?: readonly string[]): RecordRequest | undefined {
  const { rulebook, caller } = session
  const sight = specialise(permission(rulebook, table, 'get'), caller)
  const looksHere = (condition: Condition) =>
    contains(condition, (part) => part.kind === 'some' && part.table === table)
  if ([sight, ...fieldMasks(rulebook, table, caller, 'get').values()].some(looksHere)) return undefined
  const lasts = changed !== undefined && !dependsOn(sight, changed)
  return { table, caller, action: 'get', ...(!lasts && { sight }) }
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
  { createdId, rows: [row] }: Outcome,
): KeyValues {
  const { key, fields } = tableOf(rulebook.model, table)
  const valueOf = (name: string) => {
    if (!isMissing(record[name])) return record[name]
    const given = row ? row[name] : createdId
    return readerFor(dialect, fields[name] as FieldData)?.(given) ?? given
  }
  return Object.fromEntries(key.map((name) => [name, valueOf(name)])) as KeyValues
}
