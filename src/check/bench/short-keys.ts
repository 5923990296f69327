import { all, type Condition } from '../../condition/index.js'
import { accepts, keyFieldsOf, printKey, readTyped, tableOf } from '../../model/index.js'
import { AmbiguousKeyError } from './errors.js'
import type { Workbench } from './workbench.js'

/** Keys of more characters than this are written short, by their beginning, which has so many at least. */
const LONG = 20
const SHORTEST = 8

type AnyRow = Readonly<Record<string, { startsWith(prefix: string): Condition; is(value: unknown): Condition }>>

/** Whether the values of a field are texts that nobody reads to their end, such as uuids. */
const isLong = (value: unknown): value is string =>
  typeof value === 'string' && value.length > LONG && /^[\w-]+$/.test(value)

/**
 * The keys of records as people read and type them: a long text by its beginning, as much of it as tells the record from
 * those around it in the order of keys, so that no other record begins so.
 *
 * @returns by the printed key; those that are short already stand for themselves
 */
export async function shortKeys(
  bench: Workbench,
  table: string,
  records: readonly Readonly<Record<string, unknown>>[],
): Promise<ReadonlyMap<string, string>> {
  const { model } = bench.rulebook
  const { key } = tableOf(model, table)
  const short = new Map<string, string>()
  for (const record of records) {
    const name = printKey(model, table, record)
    const cut = Object.fromEntries(key.map((field) => [field, beginningOf(record[field])]))
    const isCut = key.some((field) => cut[field] !== record[field])
    const isSure = !isCut || key.length > 1 || (await isAlone(bench, table, key[0], cut[key[0]]))
    short.set(name, printKey(model, table, isSure ? cut : record))
  }
  return short
}

const beginningOf = (value: unknown): unknown => (isLong(value) ? value.slice(0, SHORTEST) : value)

/** Whether one key only begins so: the next one after it in the order of keys, which an index leads to, does not. */
async function isAlone(bench: Workbench, table: string, field: string, beginning: unknown): Promise<boolean> {
  const next = await bench.everything.list(table, { fields: [], after: { [field]: beginning }, limit: 2 })
  return next.filter((record) => String(record[field]).startsWith(String(beginning))).length === 1
}

/**
 * The key that was typed, whole: where no record has it as it is, the one that begins so.
 *
 * @returns the key as it is printed; what was typed, where there is nothing that begins so
 * @throws {AmbiguousKeyError} where several begin so
 */
export async function wholeKey(bench: Workbench, table: string, typed: string): Promise<string> {
  const { model } = bench.rulebook
  const { key } = tableOf(model, table)
  const parts = typed.split(',').map((part) => part.trim())
  if (parts.length !== key.length || parts.includes('')) return typed
  const read = keyFieldsOf(model, table).map(([name, field], at) => {
    const value = readTyped(field, parts[at] ?? '')
    return { name, value, isText: field.type === 'text' || field.type === 'uuid', fits: accepts(field, value) }
  })
  if (!read.every(({ fits }) => fits) || !read.some(({ isText }) => isText)) return typed
  const where = (begins: boolean) => (row: never) =>
    all(
      ...read.map(({ name, value, isText }) => {
        const term = (row as AnyRow)[name] as AnyRow[string]
        return begins && isText ? term.startsWith(String(value)) : term.is(value)
      }),
    )
  if ((await bench.everything.list(table, { fields: [], where: where(false), limit: 1 })).length > 0) return typed
  const found = await bench.everything.list(table, { fields: [], where: where(true), limit: 4 })
  const [first, ...more] = found.map((record) => printKey(model, table, record))
  if (first === undefined) return typed
  if (more.length === 0) return first
  throw new AmbiguousKeyError(
    `Several records of ${table} have keys that begin with ${typed}: ${[first, ...more].join('; ')}${more.length > 2 ? ' …' : ''}`,
  )
}
