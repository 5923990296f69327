import { allOf, anyOf, type Condition } from '../../condition/index.js'
import { type FieldData, type KeyValues, printKey, tableOf, toPlain, UnknownNameError } from '../../model/index.js'
import { type Caller, expand, permission, type Rulebook, shapeOfCaller, specialise } from '../../rules/index.js'
import {
  compilationOn,
  NotInOneStatementError,
  type Everyone,
  type EveryonePlan,
  planCallers,
  planEveryone,
  planOpen,
  type SqlStore,
  type Statement,
} from '../../sql/index.js'
import { EveryoneUnknownError } from '../bench/errors.js'
import { inBatches } from '../bench/keys.js'
import { titleOf } from '../bench/titles.js'
import type { Workbench } from '../bench/workbench.js'
import { waysToRead } from './by-key.js'
import { countEach } from './one-by-one.js'

/** How much one of all callers reaches. */
export interface Reach {
  /** The key of the caller's record. */
  readonly key: string
  readonly title?: string
  /** How many records of each table the caller sees, in a list or by their keys. */
  readonly counts: Readonly<Record<string, number>>
  /** How many in all. */
  readonly total: number
  /** How many of them not everyone reaches. */
  readonly own: number
}

/** How much each of all callers reaches, first those who reach most that not everyone does. */
export interface ReachOfAll {
  /** The table that has a record for each caller. */
  readonly everyone: string
  /** For each table, how many of its records everyone reaches. */
  readonly open: Readonly<Record<string, number>>
  readonly reaches: readonly Reach[]
}

/**
 * Counts, for everyone in the table of callers, how many records of each table they see: by a few queries for
 * each table, however many callers there are.
 *
 * @param everyone which table holds the callers; see {@link everyoneIn}
 * @param tables the tables to count in; left out, all
 * @param onProgress told after each table how many of them are done
 * @example await reachOfAll(bench, everyoneIn(rules), ['entries'])
 */
export async function reachOfAll(
  bench: Workbench,
  everyone: Everyone,
  tables: readonly string[] = Object.keys(bench.rulebook.model.tables),
  onProgress: (done: number) => void = () => undefined,
): Promise<ReachOfAll> {
  const found = new Map<string, ReachInto>()
  const titleField = bench.titles[everyone.table]
  const people = await bench.everything.list(everyone.table, { fields: titleField === undefined ? [] : [titleField] })
  const keyOf = (record: Readonly<Record<string, unknown>>) => printKey(bench.rulebook.model, everyone.table, record)
  for (const table of tables) {
    found.set(table, await reachInto(bench, everyone, table))
    onProgress(found.size)
  }
  const open = Object.fromEntries([...found].map(([table, each]) => [table, each.open]))
  const reaches = people.map((record): Reach => {
    const key = keyOf(record)
    const counts = Object.fromEntries([...found].map(([table, each]) => [table, each.of.get(key) ?? each.open]))
    const title = titleOf(bench, everyone.table, record)
    const total = sum(counts)
    return { key, ...(title !== undefined && { title }), counts, total, own: total - sum(open) }
  })
  return { everyone: everyone.table, open, reaches: reaches.sort((left, right) => right.own - left.own) }
}

const sum = (counts: Readonly<Record<string, number>>): number =>
  Object.values(counts).reduce((total, each) => total + each, 0)

/** What is reached of one table: by everyone, and by those who reach more. */
interface ReachInto {
  readonly open: number
  readonly of: ReadonlyMap<string, number>
}

/**
 * Everyone in the table of callers who sees one record: by the title of their own record, or else by its key.
 * @example await whoSees(bench, everyoneIn(rules), 'entries', { id: 3 }) // ['Ana Brouwer', 'Ben Okafor']
 */
export async function whoSees(
  bench: Workbench,
  everyone: Everyone,
  table: string,
  key: KeyValues,
): Promise<readonly string[]> {
  const { fields } = tableOf(bench.rulebook.model, table)
  const isIt = Object.entries(key).map(([name, value]): Condition => {
    const shape = fields[name] as FieldData
    const right = { kind: 'value', shape, value: toPlain(shape, value) } as const
    return { kind: 'compare', how: 'is', left: { kind: 'field', level: 0, name }, right }
  })
  const { open, of } = await reachInto(bench, everyone, table, isIt)
  const title = bench.titles[everyone.table]
  const people = await bench.everything.list(everyone.table, { fields: title === undefined ? [] : [title] })
  const named = people.map((record) => {
    const own = printKey(bench.rulebook.model, everyone.table, record)
    return { own, name: titleOf(bench, everyone.table, record) ?? own }
  })
  return named.filter(({ own }) => (of.get(own) ?? open) > 0).map(({ name }) => name)
}

async function reachInto(
  bench: Workbench,
  everyone: Everyone,
  table: string,
  besides: readonly Condition[] = [],
): Promise<ReachInto> {
  const { rulebook, store, clock } = bench
  // What can be read by its key is reached as well.
  const sight = anyOf(...waysToRead(rulebook, table).map((way) => permission(rulebook, table, way)))
  const filter = expand(rulebook, allOf(sight, ...besides))
  const compilation = await compilationOn(store, rulebook)
  const plan = together(() => planEveryone(compilation, table, filter, everyone))
  if (!plan) {
    const { text, bind } = planOpen(compilation, table, filter, everyone)
    const { rows } = await store.query(text, bind({ caller: NOBODY, clock }))
    return { open: Number(rows[0]?.['count'] ?? 0), of: await countEach(bench, everyone, table, filter) }
  }
  const { key } = tableOf(rulebook.model, everyone.table)
  const keyIn = (row: Readonly<Record<string, unknown>>) =>
    printKey(rulebook.model, everyone.table, Object.fromEntries(key.map((name, at) => [name, row[`key ${at}`]])))
  return runCounts(store, clock, plan, keyIn)
}

/** How many callers are counted in one statement. */
const TOGETHER = 400

/**
 * Counts what many callers may list of a table, by a few queries for some hundred callers each.
 *
 * @param callers their names
 * @returns by name; without those to whom the table is closed
 */
export async function countForMany(
  bench: Workbench,
  table: string,
  callers: readonly string[],
): Promise<ReadonlyMap<string, number>> {
  const { rulebook, store, clock } = bench
  const groups = new Map<string, string[]>()
  for (const name of callers) {
    const shape = shapeOfCaller(bench.caller(name))
    groups.set(shape, [...(groups.get(shape) ?? []), name])
  }
  const counts = new Map<string, number>()
  for (const names of [...groups.values()].flatMap((group) => inBatches(group, TOGETHER))) {
    const known = names.map((name) => bench.caller(name))
    const filter = specialise(permission(rulebook, table, 'list'), known[0] as Caller)
    if (filter.kind === 'never') continue
    const compilation = await compilationOn(store, rulebook)
    const plan = names.length > 1 ? together(() => planCallers(compilation, table, filter, known)) : undefined
    if (!plan) {
      for (const name of names) counts.set(name, await bench.as(name).count(table))
      continue
    }
    const { open, of } = await runCounts(store, clock, plan, (row) => String(row['key 0']))
    for (const [at, name] of names.entries()) counts.set(name, of.get(String(at)) ?? open)
  }
  return counts
}

/** A plan to count for many callers at once; none where a database cannot. */
function together(plan: () => EveryonePlan): EveryonePlan | undefined {
  try {
    return plan()
  } catch (error) {
    if (error instanceof NotInOneStatementError) return undefined
    throw error
  }
}

async function runCounts(
  store: SqlStore,
  clock: () => Date,
  plan: EveryonePlan,
  keyIn: (row: Readonly<Record<string, unknown>>) => string,
): Promise<ReachInto> {
  const run = async (statement: Statement | undefined) => {
    if (!statement) return []
    return (await store.query(statement.text, statement.bind({ caller: NOBODY, clock }))).rows
  }
  const countIn = async (statement: Statement) => Number((await run(statement))[0]?.['count'] ?? 0)
  const open = await countIn(plan.open)
  const of = new Map((await run(plan.own)).map((row) => [keyIn(row), open + Number(row['count'])]))
  const byThemselves = await run(plan.byThemselves)
  const whole = byThemselves.length > 0 ? await countIn(plan.whole) : 0
  for (const row of byThemselves) of.set(keyIn(row), whole)
  return { open, of }
}

/** The statements ask nothing of one caller: all callers are in the table. */
const NOBODY: Caller = { signedIn: false, roles: [], attributes: {} }

/**
 * Where to find everyone: the table that the rules name as holding a record for each caller, or another.
 *
 * @param named the table, and the fields for attributes that are not called as their field is
 * @throws {UnknownNameError} where there is no such table or field
 * @throws {EveryoneUnknownError} where no table is named and the rules name none
 */
export function everyoneIn(
  { caller, model }: Rulebook,
  named: { readonly table?: string; readonly attributes?: Readonly<Record<string, string>> } = {},
): Everyone {
  const { record } = caller
  const table = named.table ?? record?.table
  if (table === undefined) {
    const [likely = 'members'] = likelyTables({ caller, model })
    throw new EveryoneUnknownError(
      `Nothing says which table has a record for each caller. Add everyone: { table: '${likely}' } to the configuration, with attributes where fields are called otherwise, such as { attributes: { id: '${model.tables[likely]?.key[0] ?? 'id'}' } }; or have defineCaller name it as the caller's record.`,
    )
  }
  const { fields, key } = tableOf(model, table)
  const given = named.attributes ?? {}
  for (const [attribute, field] of Object.entries(given)) {
    if (!Object.hasOwn(caller.attributes, attribute)) {
      throw new UnknownNameError('caller attribute', attribute, Object.keys(caller.attributes))
    }
    if (!Object.hasOwn(fields, field)) throw new UnknownNameError('field', field, Object.keys(fields), table)
  }
  const fieldFor = (attribute: string, type: string): string | undefined => {
    if (given[attribute] !== undefined) return given[attribute]
    if (fields[attribute]?.type === type) return attribute
    return attribute === 'id' ? key[0] : undefined
  }
  const attributes = Object.entries(caller.attributes).flatMap(([name, { type }]) => {
    const field = fieldFor(name, type)
    return field === undefined ? [] : [[name, field] as const]
  })
  return {
    table,
    attributes: Object.fromEntries(attributes),
    ...(record?.table === table && { roles: record.roles }),
  }
}

/** Tables whose key is of the type of a caller's id, those first that most fields refer to. */
function likelyTables({ caller, model }: Pick<Rulebook, 'caller' | 'model'>): readonly string[] {
  const all = Object.entries(model.tables)
  const refer = (table: string) =>
    all.flatMap(([, { fields }]) => Object.values(fields)).filter(({ references }) => references === table).length
  return all
    .filter(([, { key, fields }]) => key.length === 1 && fields[key[0]]?.type === caller.attributes['id']?.type)
    .map(([name]) => name)
    .sort((left, right) => refer(right) - refer(left))
}
