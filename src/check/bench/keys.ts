import { any, all, type Condition } from '../../condition/index.js'
import { type KeyValues, type ModelData, parseKey, printKey, tableOf } from '../../model/index.js'
import type { Workbench } from './workbench.js'
import { MissingRecordError } from './errors.js'

/** So many keys are asked for in one query. */
const AT_ONCE = 250

/** A row as `where` hands it over, of whatever table. */
type AnyRow = Readonly<Record<string, { is(value: unknown): Condition }>>

/** For `where`: whether a record has one of these keys, as they are printed. */
export function keyAmong(model: ModelData, table: string, keys: readonly string[]): (row: never) => Condition {
  const { key } = tableOf(model, table)
  const parsed = keys.map((each) => parseKey(model, table, each))
  // Every database finds an OR of equalities through an index; a list as one value, not all.
  return (row) =>
    any(...parsed.map((each) => all(...key.map((name) => (row as AnyRow)[name]?.is(each[name]) ?? any()))))
}

/** Cuts a list into pieces that one query can ask about. */
export function inBatches<T>(all: readonly T[], size = AT_ONCE): readonly (readonly T[])[] {
  return Array.from({ length: Math.ceil(all.length / size) }, (_, at) => all.slice(at * size, (at + 1) * size))
}

/** Those of these keys that no record has. */
export async function missingKeys(
  bench: Workbench,
  table: string,
  keys: readonly string[],
): Promise<readonly string[]> {
  const { model } = bench.rulebook
  const there = new Set<string>()
  for (const batch of inBatches(keys)) {
    const found = await bench.everything.list(table, { fields: [], where: keyAmong(model, table, batch) })
    for (const record of found) there.add(printKey(model, table, record))
  }
  return keys.filter((key) => !there.has(key))
}

/**
 * A record as it is stored, whoever may see it.
 * @throws {MissingRecordError} where there is none, naming some that are there
 */
export async function recordAt(
  bench: Workbench,
  table: string,
  key: KeyValues,
): Promise<Readonly<Record<string, unknown>>> {
  const { model } = bench.rulebook
  const name = printKey(model, table, key)
  const [record] = await bench.everything.list(table, { where: keyAmong(model, table, [name]) })
  if (record) return record
  throw new MissingRecordError(`There is no record ${name} in ${table}; keys: ${await someKeys(bench, table)}.`)
}

/** A few keys that do exist: this is the developer's own database. */
async function someKeys(bench: Workbench, table: string): Promise<string> {
  const read = (options: object) => bench.everything.list(table, { fields: [], ...options })
  const names = (records: Awaited<ReturnType<typeof read>>) =>
    records.map((record) => printKey(bench.rulebook.model, table, record))
  const first = names(await read({ limit: 13 }))
  if (first.length <= 12) return first.join('; ') || 'none'
  const backwards = tableOf(bench.rulebook.model, table).key.map((name) => `${name} descending`)
  const [last] = names(await read({ limit: 1, orderBy: backwards }))
  return `${first.slice(0, 10).join('; ')}; … ${last}`
}

/** Whether all keys are numbers. */
export const areNumbers = (keys: readonly string[]): boolean => keys.every((key) => /^(0|[1-9]\d{0,14})$/.test(key))

/** Keys that are numbers as such, and three in a row or more as a range: `1..6`. */
export function inRanges(keys: readonly string[]): readonly (string | number)[] {
  if (!areNumbers(keys)) return keys
  const runs: [first: number, last: number][] = []
  for (const key of keys.map(Number)) {
    const run = runs.at(-1)
    if (run && key === run[1] + 1) run[1] = key
    else runs.push([key, key])
  }
  return runs.flatMap<string | number>(([first, last]) =>
    last - first > 1 ? [`${first}..${last}`] : first === last ? [first] : [first, last],
  )
}
