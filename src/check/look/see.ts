import type { Condition } from '../../condition/index.js'
import { type Access, RefusedError } from '../../decide/index.js'
import { isMissing, parseKey, printKey, tableOf } from '../../model/index.js'
import { keyAmong } from '../bench/keys.js'
import { shortKeys } from '../bench/short-keys.js'
import type { Workbench } from '../bench/workbench.js'

/** A record, and what each caller may do to it. */
export interface SeenRow {
  readonly key: string
  /** The beginning of a long key, as it can be typed: no other record has it. */
  readonly short?: string
  readonly title?: string
  /** By caller; `null` of those who do not see it. */
  readonly access: Readonly<Record<string, Access | null>>
}

/** What one caller gets of a table as a whole. */
export type Sight = { readonly count: number } | { readonly status: number; readonly message: string }

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
    const access = new Map<string, ReadonlyMap<string, Access>>()
    for (const name of callers) {
      if ('count' in (sights[name] as Sight)) access.set(name, await accessTo(bench, table, name, keys))
    }
    for (const [at, record] of records.entries()) {
      const key = keys[at] as string
      const each = Object.fromEntries(callers.map((name) => [name, access.get(name)?.get(key) ?? null]))
      const isSeen = Object.values(each).some((one) => one !== null)
      if (!(isSeen || hidden) || (differ && isAlike(Object.values(each)))) continue
      const value = title === undefined ? undefined : record[title]
      yield { key, ...(!isMissing(value) && { title: String(value) }), access: each }
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

async function accessTo(bench: Workbench, table: string, caller: string, keys: readonly string[]) {
  const { model } = bench.rulebook
  const found = await bench.as(caller).list(table, { fields: [], access: true, where: keyAmong(model, table, keys) })
  return new Map(found.map((record) => [printKey(model, table, record), record['$access'] as Access]))
}

const isAlike = ([first, ...others]: readonly (Access | null)[]): boolean =>
  others.every((each) => JSON.stringify(summary(each)) === JSON.stringify(summary(first ?? null)))

/** What makes a difference: not through which tie a record is seen. */
const summary = (access: Access | null) => access && [access.may, access.changeable, access.hidden]

async function sightOf(bench: Workbench, table: string, caller: string): Promise<Sight> {
  try {
    return { count: await bench.as(caller).count(table) }
  } catch (error) {
    if (!(error instanceof RefusedError)) throw error
    return { status: error.status, message: error.message }
  }
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
