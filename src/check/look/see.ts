import type { Condition } from '../../condition/index.js'
import type { Access } from '../../decide/index.js'
import { parseKey, printKey, tableOf } from '../../model/index.js'
import { shortKeys } from '../bench/short-keys.js'
import { titleOf } from '../bench/titles.js'
import type { Workbench } from '../bench/workbench.js'
import { bothWays, byKey, countBeyond } from './by-key.js'
import { lookAt } from './look.js'

/** A record, and what each caller may do to it. */
export interface SeenRow {
  readonly key: string
  /** The beginning of a long key, as it can be typed: no other record has it. */
  readonly short?: string
  readonly title?: string
  /** By caller; `null` of those who do not see it. */
  readonly access: Readonly<Record<string, Access | null>>
  /** The callers who do not see it in a list, and can read it by its key; left out where there are none. */
  readonly byKey?: readonly string[]
}

/** How many records a caller sees in lists; and how many more can be read by their keys alone, where there are any. */
interface Listed {
  readonly count: number
  readonly byKey?: number
}

/** What one caller gets of a table as a whole. */
export type Sight = Listed | { readonly status: number; readonly message: string }

/** How many records are seen, in the one way or the other. */
export const seenCount = (sight: Sight): number => ('count' in sight ? sight.count + (sight.byKey ?? 0) : 0)

/** The same in words. */
export const seenText = ({ count, byKey }: Listed): string =>
  byKey === undefined ? String(count) : `${count}, ${byKey} by key`

/** What callers see of one table, side by side. */
export interface SeenTable {
  readonly table: string
  /** How many records each caller sees, or the refusal. */
  readonly callers: Readonly<Record<string, Sight>>
  readonly rows: readonly SeenRow[]
  /** Whether there are further rows behind these. */
  readonly more: boolean
}

/** Which records to show. */
export interface SeeOptions {
  /** Only those that not all callers see alike, or may do the same to. */
  readonly differ?: boolean
  /** Also those that none of the callers sees. */
  readonly hidden?: boolean
  /** Only those that meet a condition. */
  readonly where?: (row: never) => Condition
  /** What to sort by, as `list` takes it; left out, the key. */
  readonly orderBy?: readonly string[]
  /** At most so many, 1 or more; left out, 100. */
  readonly limit?: number
  /** Leaves out so many from the start. */
  readonly offset?: number
}

/** So many records are looked at together. */
const BATCH = 200

/**
 * Looks at a table as each of several callers.
 *
 * @throws {UnknownNameError} where there is no such table, caller or field
 * @example await seeTable(bench, 'entries', ['ana', 'ben'], { differ: true })
 */
export async function seeTable(
  bench: Workbench,
  table: string,
  callers: readonly string[],
  options: SeeOptions = {},
): Promise<SeenTable> {
  tableOf(bench.rulebook.model, table)
  const { limit = 100, offset = 0 } = options
  const sights: Record<string, Sight> = {}
  for (const name of callers) sights[name] = await sightOf(bench, table, name)
  const rows: SeenRow[] = []
  let passed = 0
  for await (const row of rowsSeen(bench, table, sights, options)) {
    passed += 1
    if (passed > offset + limit)
      return { table, callers: sights, rows: await shortened(bench, table, rows), more: true }
    if (passed > offset) rows.push(row)
  }
  return { table, callers: sights, rows: await shortened(bench, table, rows), more: false }
}

/** The rows with their keys as people type them, where these are shorter. */
async function shortened(bench: Workbench, table: string, rows: readonly SeenRow[]): Promise<readonly SeenRow[]> {
  const { model } = bench.rulebook
  const short = await shortKeys(
    bench,
    table,
    rows.map(({ key }) => parseKey(model, table, key)),
  )
  return rows.map((row) => {
    const own = short.get(row.key)
    return own === undefined || own === row.key ? row : { ...row, short: own }
  })
}

/** The records to show, one after the other. */
async function* rowsSeen(
  bench: Workbench,
  table: string,
  sights: SeenTable['callers'],
  { differ = false, hidden = false, where, orderBy }: SeeOptions,
): AsyncGenerator<SeenRow> {
  const title = bench.titles[table]
  const callers = Object.keys(sights)
  const wanted = { fields: title === undefined ? [] : [title], ...(where && { where }), ...(orderBy && { orderBy }) }
  for await (const records of batches(bench.everything.stream(table, wanted))) {
    const keys = records.map((record) => printKey(bench.rulebook.model, table, record))
    const apart = byKey(bench, table)
    const listed = new Map<string, ReadonlyMap<string, Access>>()
    const access = new Map<string, ReadonlyMap<string, Access>>()
    for (const name of callers) {
      if (!('count' in (sights[name] as Sight))) continue
      const found = await accessTo(bench, name, table, keys)
      listed.set(name, found)
      access.set(name, apart ? bothWays(found, await accessTo(apart, name, table, keys)) : found)
    }
    for (const [at, record] of records.entries()) {
      const key = keys[at] as string
      const each = Object.fromEntries(callers.map((name) => [name, access.get(name)?.get(key) ?? null]))
      const isSeen = Object.values(each).some((one) => one !== null)
      if (!(isSeen || hidden) || (differ && isAlike(Object.values(each)))) continue
      const known = titleOf(bench, table, record)
      const beyond = callers.filter((name) => each[name] && !listed.get(name)?.has(key))
      yield {
        key,
        ...(known !== undefined && { title: known }),
        access: each,
        ...(beyond.length > 0 && { byKey: beyond }),
      }
    }
  }
}

async function* batches<T>(all: AsyncIterable<T>): AsyncGenerator<readonly T[]> {
  let batch: T[] = []
  for await (const each of all) {
    batch.push(each)
    if (batch.length < BATCH) continue
    yield batch
    batch = []
  }
  if (batch.length > 0) yield batch
}

async function accessTo(bench: Workbench, caller: string, table: string, keys: readonly string[]) {
  return (await lookAt(bench, caller, table, { whole: false, count: false, mentioned: keys })).records
}

const isAlike = ([first, ...others]: readonly (Access | null)[]): boolean =>
  others.every((each) => JSON.stringify(summary(each)) === JSON.stringify(summary(first ?? null)))

/** What makes a difference: not through which tie a record is seen. */
const summary = (access: Access | null) => access && [access.may, access.changeable, access.hidden]

async function sightOf(bench: Workbench, table: string, caller: string): Promise<Sight> {
  const listed = await lookAt(bench, caller, table, { whole: false, count: true, mentioned: [] })
  const beyond = await countBeyond(bench, caller, table)
  if (listed.refused && beyond === 0) return listed.refused
  return { count: listed.count ?? 0, ...(beyond > 0 && { byKey: beyond }) }
}

/** How much of each table each caller sees. */
export interface SeenCounts {
  readonly callers: readonly string[]
  readonly tables: Readonly<Record<string, Readonly<Record<string, Sight>>>>
  /** How many records anybody would get of each table with no rules at all, where that was asked for. */
  readonly unguarded?: Readonly<Record<string, number>>
}

/**
 * Counts what each caller sees of every table.
 *
 * @param options `unguarded`: also what anybody would get with no rules at all
 * @example (await seeCounts(bench, ['ana'])).tables['entries']
 */
export async function seeCounts(
  bench: Workbench,
  callers: readonly string[],
  { unguarded = false }: { readonly unguarded?: boolean } = {},
): Promise<SeenCounts> {
  const tables: Record<string, Record<string, Sight>> = {}
  const all: Record<string, number> = {}
  for (const table of Object.keys(bench.rulebook.model.tables)) {
    const counts: Record<string, Sight> = {}
    for (const name of callers) counts[name] = await sightOf(bench, table, name)
    tables[table] = counts
    if (unguarded) all[table] = await bench.everything.count(table)
  }
  return { callers, tables, ...(unguarded && { unguarded: all }) }
}
