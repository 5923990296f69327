import { allOf, always, type Condition, contains, normalise } from '../condition/index.js'
import { problemsOfNew, type Inquiry, type Reading, recordToCreate, refusal, stampsToSet } from '../decide/index.js'
import { fieldOf, isMissing, type KeyValues, type ModelData, readKey, tableOf } from '../model/index.js'
import {
  type Action,
  assertAction,
  changePermission,
  changesSome,
  createPermission,
  dependsOn,
  isFixed,
  rulesOf,
  specialise,
  withComputed,
} from '../rules/index.js'
import { withAnswer } from './answer.js'
import type { ReadRecord, RecordRequest, WritePlan } from './backend.js'
import type { PlannedWrite, PlanName } from './plans.js'
import { readGiven } from './given.js'
import { decidedPermission, recordRequest, refuseClosed } from './requests.js'
import { attempt, lockParents, lockRecords } from './attempt.js'
import { whatCame } from './came.js'
import { seenAfterWrite } from './reads.js'
import { keySlots, planned, run, type Session } from './session.js'
import { inquire, inquireCreate } from './verdicts.js'

/** Stores a new record. */
export async function create(session: Session, table: string, given: unknown): Promise<ReadRecord> {
  tableOf(session.rulebook.model, table)
  refuseClosed(session, { rulebook: session.rulebook, table, action: 'create', caller: session.caller })
  return createRead(session, table, await readGiven(session, table, 'create', given))
}

/** A record that is to be created, read as far as no other is needed for that. */
export interface Creation {
  readonly reading: Reading
  readonly record: Readonly<Record<string, unknown>>
  /** What is wrong with its values, by field. */
  readonly problems: Reading['problems']
  /** The fields that get a value. */
  readonly stored: readonly string[]
  readonly now: Date
  /** What stores so many with values for the same fields; nothing where none can be. */
  planFor(records: number): PlannedWrite | undefined
}

/** Reads a record that is to be created. */
export function creationOf(session: Session, table: string, reading: Reading): Creation {
  const { rulebook, caller, clock } = session
  const now = clock()
  const { values, fields } = reading
  const record = recordToCreate(rulebook, table, values, caller, now)
  // Given as missing, it is not to be filled in.
  const isEmptied = (name: string) => fields.includes(name) && fieldOf(rulebook.model, table, name).filled === 'default'
  const stored = Object.keys(record).filter((name) => !isMissing(record[name]) || isEmptied(name))
  const planFor = (records: number) =>
    plannedWrite(session, 'create', [table, fields, stored, records], () => {
      const condition = specialise(createPermission(rulebook, table, fields), caller)
      const seen = returned(session, table)
      return [
        condition,
        () => session.backend.create({ table, stored, condition, records, ...(seen && { returned: seen }) }),
      ]
    })
  return { reading, record, problems: problemsOfNew(rulebook, table, reading, record), stored, now, planFor }
}

/** Stores a record that was read. */
export async function createRead(session: Session, table: string, reading: Reading): Promise<ReadRecord> {
  const { rulebook, caller } = session
  const creation = creationOf(session, table, reading)
  const { record, problems, now } = creation
  const { fields, unfit } = reading
  const inquiry: Inquiry = { rulebook, table, action: 'create', caller, fields, unfit }
  const explain = async (asked: Session): Promise<undefined> => {
    const verdict = await inquireCreate(asked, inquiry, { values: record, problems })
    if (!verdict.allowed) throw refusal(verdict)
    return undefined
  }
  if (problems.size > 0) await explain(session)
  const write = creation.planFor(1)
  return attempt(session, {
    table,
    rests: write?.rests === true,
    stores: true,
    lock: (inside) => lockParents(inside, table, record),
    write: async (inside) => {
      if (!write) return undefined
      const written = await run(inside, write.plan, record, now)
      return whatCame(inside, table, written, () =>
        keyAmong(rulebook.model, table, { ...record, ...written.keys?.()[0] }),
      )
    },
    explain,
  })
}

/** A change that was read, and the statement for it. */
export interface Change {
  readonly reading: Reading
  readonly inquiry: Inquiry
  /** What writes it to so many records; nothing where nothing can be written. */
  planFor(records: number): PlannedWrite | undefined
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
  return withAnswer(readGiven(session, table, action, given), (reading) => changeOf(session, table, action, reading))
}

function changeOf(session: Session, table: string, action: Action, reading: Reading): Change {
  const { rulebook, caller } = session
  const { values, fields, unfit } = reading
  const inquiry: Inquiry = { rulebook, table, action, caller, fields, unfit }
  const planFor = (records: number) =>
    plannedWrite(session, 'change', [action, table, fields, records], () => {
      const changes = {
        given: fields,
        stamps: stampsToSet(rulebook, table, action, caller, values),
        acts: action !== 'update',
      }
      const settable = settableOf(session, table, action, fields).filter((name) => !Object.hasOwn(changes.stamps, name))
      const writes = settable.length > 0 || (action !== 'update' && Object.keys(changes.stamps).length > 0)
      if (!writes) return undefined
      const permitted = specialise(changePermission(rulebook, table, action, fields), caller)
      // An update that changes nothing writes nothing; an action of the table's own is done all the same.
      const some = changes.acts ? always : changesSome(rulebook, table, fields, caller, permitted)
      const condition = normalise(allOf(permitted, some))
      const seen = returned(session, table, withComputed(rulebook, table, [...fields, ...Object.keys(changes.stamps)]))
      const request = { table, changes, settable, condition, records, ...(seen && { returned: seen }) }
      return [condition, () => session.backend.change(request), permitted]
    })
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
  const write = problems.size === 0 ? planFor(1) : undefined
  const explain = async (asked: Session) => {
    const { verdict, changed } = await inquire(asked, inquiry, key, reading)
    if (!verdict.allowed) throw refusal(verdict)
    const acts = write && inquiry.action !== 'update'
    return changed || acts ? undefined : seenAfterWrite(asked, table, key)
  }
  const slots = { ...values, ...keySlots(key) }
  return attempt(session, {
    table,
    rests: write?.rests === true,
    stores: true,
    lock: async (inside) => (await lockParents(inside, table, values)) && (await lockRecords(inside, table, [key])),
    write: (inside) => {
      if (!write) return undefined
      return withAnswer(run(inside, write.plan, slots), (written) => whatCame(inside, table, written, () => key))
    },
    explain,
  })
}

/** Removes a record. */
export async function remove(session: Session, table: string, givenKey: unknown): Promise<void> {
  const { inquiry, planFor } = prepareRemoval(session, table)
  const key = readKey(session.rulebook.model, table, givenKey)
  const write = planFor(1)
  await attempt(session, {
    table,
    rests: write?.rests === true,
    stores: false,
    lock: (inside) => lockRecords(inside, table, [key]),
    write: (inside) =>
      write && withAnswer(run(inside, write.plan, keySlots(key)), ({ touched }) => touched > 0 || undefined),
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
  const planFor = (records: number) =>
    plannedWrite(session, 'remove', [table, records], () => {
      const condition = decidedPermission(session, table, 'delete')
      const leaving = rulesOf(rulebook, table).gone?.onDelete
      return [condition, () => session.backend.remove({ table, condition, records, ...(leaving && { leaving }) })]
    })
  return { inquiry, planFor }
}

/**
 * What is worked out of a write once; nothing where it can never be done, whatever the record: a database that is asked all
 * the same could fail in a way of its own, such as on a number that it alone hands out.
 *
 * @param make its condition; what plans it; and what of the condition gives the right to it, where that is not all of it
 */
function plannedWrite(
  session: Session,
  kind: 'create' | 'change' | 'remove',
  name: PlanName,
  make: () => readonly [Condition, () => WritePlan, Condition?] | undefined,
): PlannedWrite | undefined {
  const made = planned(session, kind, name, () => {
    const [condition, plan, right = condition] = make() ?? []
    if (!condition || !right || !plan || condition.kind === 'never') return { plan: undefined }
    // Whether it looks at other records than the one it is about.
    return { plan: plan(), condition, rests: contains(right, (part) => part.kind === 'some') }
  })
  return made.plan ? made : undefined
}

/** The key that stands among a record's values. */
export const keyAmong = (model: ModelData, table: string, values: Readonly<Record<string, unknown>>): KeyValues =>
  readKey(model, table, Object.fromEntries(tableOf(model, table).key.map((name) => [name, values[name]])))

/**
 * What a write gives back: the record, as far as the caller sees it afterwards. Nothing where that has to be asked anew,
 * since what it hangs on is records of the same table, which this may be one of: the statement saw them as they were.
 *
 * @param changed the fields it changes; left out, all. A change needs sight before, which lasts unless it touches
 *   what sight depends on.
 */
function returned(session: Session, table: string, changed?: readonly string[]): RecordRequest | undefined {
  const sight = decidedPermission(session, table, 'get')
  const record = recordRequest(session, { table, access: false, related: [] }, 'get')
  const looksHere = (condition: Condition) =>
    contains(condition, (part) => part.kind === 'some' && part.table === table)
  if ([sight, ...record.masks.values()].some(looksHere)) return undefined
  const lasts = changed !== undefined && !dependsOn(sight, changed)
  return { ...record, ...(!lasts && { sight }) }
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
