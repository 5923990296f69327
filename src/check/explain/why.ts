import { type Condition, contains, operandsOf, print } from '../../condition/index.js'
import { type MemoryRecord, stampsToSet, stampValues, type Verdict, whoName } from '../../decide/index.js'
import { fieldOf, parseKey, printKey, tableOf } from '../../model/index.js'
import {
  type Action,
  assertAction,
  covers,
  deniesFor,
  expand,
  grantsFor,
  inForce,
  isFixed,
  isRead,
  rulesOf,
  stampsFor,
  whoCondition,
  withoutChange,
} from '../../rules/index.js'
import { recordAt } from '../bench/keys.js'
import { titleOf } from '../bench/titles.js'
import { type Setting, trace, type Trace } from './trace.js'
import { attributesOf, type Workbench } from '../bench/workbench.js'

/** What to explain. */
export interface Question {
  readonly caller: string
  readonly table: string
  /** What is done to the record; not `create`. */
  readonly action: Action
  /** The record's key as it is printed: `3`, or `4, 7`. */
  readonly key: string
  /** Explains whether the caller sees this field, or may change it by this action. */
  readonly field?: string
  /** The values of a change. */
  readonly values?: MemoryRecord
}

/** One part of a grant: what it asks, whether that is so, and what made it so. */
export interface PartReason extends Trace {
  /** The tie's name, or the condition on the caller. */
  readonly who: string
  readonly condition: string
}

/** A grant, whether it holds, and what it lacks. */
export interface GrantReason {
  readonly action: Action
  readonly holds: boolean
  readonly fields?: readonly string[]
  /** Whether it covers the field that was asked about. */
  readonly covers: boolean
  /** Whether none of the grants that do not hold lacks less. */
  readonly closest: boolean
  readonly lacking: number
  readonly to: readonly PartReason[]
  readonly when?: PartReason
}

/** A deny that bears on the action. */
export interface DenyReason extends Trace {
  readonly name: string
  readonly condition: string
  readonly message: string
  /** Who is exempt from it. */
  readonly except: readonly string[]
}

/** Why a caller may or may not do something to a record, or see or change one field of it. */
export interface Explanation extends Question {
  readonly title?: string
  readonly allowed: boolean
  readonly status: Verdict['status']
  /** What the caller is told. */
  readonly message: string
  /** Why the field never can be seen or changed whatever holds, where that is so. */
  readonly fixed?: string
  readonly grants: readonly GrantReason[]
  readonly denies: readonly DenyReason[]
  /** What seeing it takes, where the caller cannot see it and wants to do something else to it. */
  readonly sight?: { readonly grants: readonly GrantReason[]; readonly denies: readonly DenyReason[] }
  /** The record's values that the rules of its table look at. */
  readonly record: MemoryRecord
  /** The caller's attributes, and roles where there are any. */
  readonly attributes: MemoryRecord
}

/**
 * Finds out why: asks the database for the verdict, and follows every grant and deny through the records.
 *
 * @throws {UnknownNameError} where there is no such caller, table, action or field
 * @throws {InputError} where the key is none
 * @throws {MissingRecordError} where there is no such record
 * @example (await explain(bench, { caller: 'ben', action: 'update', table: 'entries', key: '7' })).grants
 */
export async function explain(bench: Workbench, question: Question): Promise<Explanation> {
  const { caller: name, table, action, field, values } = question
  const { rulebook, clock } = bench
  const rules = inForce(rulebook, table)
  assertAction(rules, table, action)
  if (field !== undefined) fieldOf(rulebook.model, table, field)
  const key = parseKey(rulebook.model, table, question.key)
  const record = await recordAt(bench, table, key)
  const caller = bench.caller(name)
  const now = clock()
  const { verdict } = await bench.as(name).verdict(table, action, key, values)
  const stamps = stampValues(stampsToSet(rulebook, table, action, caller, values ?? {}), caller, now)
  const setting: Setting = { bench, caller, now, ...(values && { next: { ...record, ...stamps, ...values } }) }
  const grants = await grantReasons(setting, question, record)
  const needsSight = !isRead(action) && !verdict.seen
  const fixed = field === undefined ? undefined : whyFixed(bench, question, field)
  const opened = grants.some((grant) => grant.holds && grant.covers)
  const free =
    field === undefined ||
    caller.trusted !== undefined ||
    (isRead(action) && isKey(bench, table, field)) ||
    (opened && !fixed)
  const title = titleOf(bench, table, record)
  return {
    ...question,
    key: printKey(rulebook.model, table, record),
    ...(title !== undefined && { title }),
    allowed: verdict.allowed && free,
    status: verdict.status,
    message: verdict.message,
    ...(fixed !== undefined && { fixed }),
    grants,
    denies: await denyReasons(setting, question, record),
    ...(needsSight && {
      sight: {
        grants: await grantReasons(setting, { table, action: 'get' }, record),
        denies: await denyReasons(setting, { table, action: 'get' }, record),
      },
    }),
    record: Object.fromEntries(fieldsLookedAt(bench, table).map((each) => [each, record[each] ?? null])),
    attributes: attributesOf(caller),
  }
}

type Asked = Pick<Question, 'table' | 'action' | 'field' | 'values'>

const isKey = ({ rulebook }: Workbench, table: string, field: string): boolean =>
  tableOf(rulebook.model, table).key.includes(field)

function whyFixed({ rulebook }: Workbench, { table, action }: Question, field: string) {
  if (isRead(action) || action === 'delete' || !isFixed(rulebook, table, action, field)) return undefined
  if (Object.hasOwn(stampsFor(rulesOf(rulebook, table), action), field)) return 'it is set by the server'
  return fieldOf(rulebook.model, table, field).filled === 'computed' ? 'the database computes it' : 'it never changes'
}

async function grantReasons(setting: Setting, asked: Asked, record: MemoryRecord): Promise<readonly GrantReason[]> {
  const { table, action, field } = asked
  const rules = inForce(setting.bench.rulebook, table)
  const reasons: Omit<GrantReason, 'closest'>[] = []
  for (const grant of grantsFor(rules, action)) {
    const to: PartReason[] = []
    for (const who of grant.to) to.push(await part(setting, asked, whoName(who), whoCondition(rules, who), record))
    const when = grant.when && (await part(setting, asked, 'when', grant.when, record))
    const lacking = Math.min(...to.map((each) => each.lacking)) + (when?.lacking ?? 0)
    reasons.push({
      action: grant.action,
      holds: lacking === 0,
      lacking,
      covers: field === undefined || covers(grant, field),
      to,
      ...(when && { when }),
      ...(grant.fields && { fields: grant.fields }),
    })
  }
  const best = Math.min(...reasons.filter((each) => !each.holds && each.covers).map((each) => each.lacking))
  return reasons.map((each) => ({ ...each, closest: !each.holds && each.covers && each.lacking === best }))
}

async function denyReasons(setting: Setting, asked: Asked, record: MemoryRecord): Promise<readonly DenyReason[]> {
  const rules = inForce(setting.bench.rulebook, asked.table)
  const reasons: DenyReason[] = []
  for (const { name, when, except, message } of deniesFor(rules, asked.action)) {
    const struck = await part(setting, asked, name, when, record)
    const exempt: string[] = []
    for (const who of except) {
      const { holds } = await part(setting, asked, whoName(who), whoCondition(rules, who), record)
      if (holds) exempt.push(whoName(who))
    }
    const { condition, evidence } = struck
    const holds = struck.holds && exempt.length === 0
    const spared = struck.holds && exempt.length > 0 ? [`${exempt.join(', ')} is exempt`] : []
    reasons.push({
      name,
      condition,
      message,
      holds,
      lacking: struck.lacking,
      evidence: [...evidence, ...spared],
      except: except.map(whoName),
    })
  }
  return reasons
}

async function part(
  { bench, ...setting }: Setting,
  { values }: Asked,
  who: string,
  condition: Condition,
  record: MemoryRecord,
): Promise<PartReason> {
  const asked = expand(bench.rulebook, values ? condition : withoutChange(condition))
  return { who, condition: print(condition), ...(await trace(asked, record, { bench, ...setting })) }
}

/** The fields of a table that its rules look at. */
function fieldsLookedAt({ rulebook }: Workbench, table: string): readonly string[] {
  const { ties, denies, grants } = rulesOf(rulebook, table)
  const conditions = [
    ...Object.values(ties),
    ...Object.values(denies).map(({ when }) => when),
    ...Object.values(grants).flatMap((each) => each.flatMap(({ when }) => when ?? [])),
  ]
  const uses = (field: string) => (condition: Condition) =>
    contains(condition, (each) =>
      operandsOf(each).some((operand) => operand.kind === 'field' && operand.level === 0 && operand.name === field),
    )
  return Object.keys(tableOf(rulebook.model, table).fields).filter((field) => conditions.some(uses(field)))
}
