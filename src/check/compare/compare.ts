import { allOf, anyOf, type Condition, normalise, notOf } from '../../condition/index.js'
import { printKey, tableOf } from '../../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  createPermission,
  expand,
  fieldSight,
  grantsFor,
  inForce,
  isFixed,
  isRead,
  permission,
  type Rulebook,
  rulesOf,
  specialise,
  whoCondition,
} from '../../rules/index.js'
import { compilationOn, planList } from '../../sql/index.js'
import { countWhere } from '../bench/count.js'
import { ComparisonError } from '../bench/errors.js'
import { waysToRead } from '../look/by-key.js'
import type { Workbench } from '../bench/workbench.js'

/** Some of a table's records: how many, and the keys of the first few. */
export interface SomeRecords {
  readonly count: number
  readonly keys: readonly string[]
}

/** What one caller gains and loses of one table in one respect. */
export interface Change {
  readonly caller: string
  readonly table: string
  /** `list` for what the caller sees, `get` for what can be read by its key, where rules set that apart; `create`, which is not about records, gains or loses one in all. */
  readonly action: Action
  /** The field that is newly seen, or may newly be changed; of records that were open before as well. */
  readonly field?: string
  readonly gained: SomeRecords
  readonly lost: SomeRecords
}

/** How two rulebooks differ on the same records. */
export interface Comparison {
  /** The tables whose rules are not the same. */
  readonly tables: readonly string[]
  readonly changes: readonly Change[]
  /** Whether anyone gains anything. */
  readonly widened: boolean
}

/** So many keys are named of those gained, and of those lost. */
const NAMED = 20

/**
 * Compares what each caller sees and may do under two rulebooks, on the same records. Only where what a caller may
 * do is not the same condition is the database asked, and then for the difference alone.
 *
 * @param bench its own rulebook is the one before
 * @param callers the callers' names
 * @throws {UnknownNameError} where a table of one rulebook is missing in the other
 * @throws {ComparisonError} where one of them asks for a field that the database has not
 * @example (await compareRulebooks(openWorkbench({ rules: before, callers, store }), after, ['ana'])).changes
 */
export async function compareRulebooks(
  bench: Workbench,
  after: Rulebook,
  callers: readonly string[] = bench.names,
): Promise<Comparison> {
  const before = bench.rulebook
  const next = bench.instead({ rules: after })
  const both = { ...bench, rulebook: withFieldsOf(before, after) }
  const names = [...new Set([...Object.keys(before.model.tables), ...Object.keys(after.model.tables)])]
  for (const rulebook of [before, after]) names.forEach((table) => tableOf(rulebook.model, table))
  const changes: Change[] = []
  for (const table of names) {
    for (const [name, was, will] of respectsOf(before, after, table)) {
      for (const caller of callers) {
        const [from, to] = [specialise(was, bench.caller(caller)), specialise(will, next.caller(caller))]
        const who = bench.caller(caller)
        const change = { caller, table, ...name }
        const found =
          name.action === 'create'
            ? createChange(from, to)
            : {
                gained: await difference(both, table, who, to, from),
                lost: await difference(both, table, who, from, to),
              }
        if (found.gained.count + found.lost.count > 0) changes.push({ ...change, ...found })
      }
    }
  }
  return {
    tables: names.filter((table) => rulesText(before, table) !== rulesText(after, table)),
    changes,
    widened: changes.some(({ gained }) => gained.count > 0),
  }
}

/** The rulebook before, in whose tables the fields of the one after are known as well. */
function withFieldsOf(before: Rulebook, after: Rulebook): Rulebook {
  const tables = Object.entries(before.model.tables).map(([name, table]) => [
    name,
    { ...table, fields: { ...table.fields, ...tableOf(after.model, name).fields } },
  ])
  return { ...before, model: { ...before.model, tables: Object.fromEntries(tables) as Rulebook['model']['tables'] } }
}

const rulesText = (rulebook: Rulebook, table: string): string =>
  JSON.stringify([rulesOf(rulebook, table), tableOf(rulebook.model, table), rulebook.caller])

interface Respect {
  readonly action: Action
  readonly field?: string
}

/** In which respects two rulebooks are compared on a table: what each says, where that is not the same. */
function respectsOf(
  before: Rulebook,
  after: Rulebook,
  table: string,
): readonly (readonly [Respect, Condition, Condition])[] {
  const actions = [rulesOf(before, table), rulesOf(after, table)].flatMap((rules) => rules.actions)
  const fields = Object.keys(tableOf(before.model, table).fields).filter(
    (name) => name in tableOf(after.model, table).fields,
  )
  const reads = [...new Set([before, after].flatMap((each) => waysToRead(each, table)))]
  const respects: readonly Respect[] = [
    ...reads.flatMap((action) => [{ action }, ...fields.map((field) => ({ action, field }))]),
    { action: 'create' },
    { action: 'update' },
    ...fields.map((field) => ({ action: 'update', field })),
    ...['delete', ...new Set(actions)].map((action) => ({ action })),
  ]
  // A field counts where the record was open before: of those that are gained, all is new.
  const bothOpen = new Map(
    [...reads, 'update'].map((action) => [
      action,
      allOf(conditionFor(before, table, { action }), conditionFor(after, table, { action })),
    ]),
  )
  return respects.flatMap((respect) => {
    const [from, to] = [conditionFor(before, table, respect), conditionFor(after, table, respect)]
    if (JSON.stringify(from) === JSON.stringify(to)) return []
    const within = respect.field === undefined ? allOf() : (bothOpen.get(respect.action) as Condition)
    return [[respect, allOf(within, from), allOf(within, to)] as const]
  })
}

/** When a caller sees a record or may do this to it, and sees or may change the field. */
function conditionFor(rulebook: Rulebook, table: string, { action, field }: Respect): Condition {
  const rules = inForce(rulebook, table)
  if (action === 'create') return createPermission(rulebook, table, [])
  const isOwn = !isRead(action) && !['update', 'delete'].includes(action)
  if (isOwn && !rules.actions.includes(action)) return anyOf()
  const open = permission(rulebook, table, action)
  if (field === undefined) return open
  if (action === 'list' || action === 'get') return allOf(open, fieldSight(rulebook, table, field, action))
  if (isFixed(rulebook, table, action, field)) return anyOf()
  const holding = grantsFor(rules, action)
    .filter((grant) => covers(grant, field))
    .map(({ to, when }) => allOf(anyOf(...to.map((who) => whoCondition(rules, who))), ...(when ? [when] : [])))
  return allOf(open, expand(rulebook, anyOf(...holding)))
}

/** Creating is open or closed to a caller; what it asks of the values is not told by the records there are. */
function createChange(from: Condition, to: Condition): Pick<Change, 'gained' | 'lost'> {
  const [was, will] = [from, to].map((each) => normalise(each).kind !== 'never')
  const one = (is: boolean | undefined): SomeRecords => ({ count: is ? 1 : 0, keys: [] })
  return { gained: one(!was && will), lost: one(was && !will) }
}

/** The records that one condition lets through and the other does not. */
async function difference(
  bench: Workbench,
  table: string,
  caller: Caller,
  one: Condition,
  other: Condition,
): Promise<SomeRecords> {
  const filter = normalise(allOf(one, notOf(other)))
  if (JSON.stringify(normalise(one)) === JSON.stringify(normalise(other))) return NONE
  try {
    const count = await countWhere(bench, table, caller, filter)
    return count === 0 ? NONE : { count, keys: await firstKeys(bench, table, caller, filter) }
  } catch (error) {
    const reason = error instanceof Error ? error.message : String(error)
    throw new ComparisonError(`The two rulebooks cannot both be asked about ${table} of this database: ${reason}`)
  }
}

async function firstKeys(
  { rulebook, store, clock }: Workbench,
  table: string,
  caller: Caller,
  filter: Condition,
): Promise<readonly string[]> {
  const compilation = { ...(await compilationOn(store, rulebook)), form: 'scan' } as const
  const order = tableOf(rulebook.model, table).key.map((field) => ({ field, descending: false }))
  const rest = { masks: new Map(), related: [], limited: true, skipping: false }
  const { statement, read } = planList(compilation, { table, fields: [], filter, order, ...rest })
  const { rows } = await store.query(statement.text, statement.bind({ caller, clock, given: { $limit: NAMED } }))
  return rows.map((row) => printKey(rulebook.model, table, read(row)))
}

const NONE: SomeRecords = { count: 0, keys: [] }
