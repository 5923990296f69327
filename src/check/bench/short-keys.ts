import { all, type Condition } from '../../condition/index.js'
import {
  accepts,
  type FieldData,
  fieldOf,
  keyFieldsOf,
  type KeyValues,
  printKey,
  readTyped,
  type Shape,
  tableOf,
} from '../../model/index.js'
import { AmbiguousKeyError } from './errors.js'
import { keyAmong, missingKeys } from './keys.js'
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

/** Whether one key only begins so. */
const isAlone = async (bench: Workbench, table: string, field: string, beginning: unknown): Promise<boolean> =>
  (await beginningWith(bench, table, field, String(beginning), 2)).length === 1

/** The first of the records whose key begins so, in the order of keys, by which an index leads to them. */
async function beginningWith(
  bench: Workbench,
  table: string,
  field: string,
  beginning: string,
  most: number,
): Promise<readonly Readonly<Record<string, unknown>>[]> {
  const { model } = bench.rulebook
  const first = { [field]: firstWith(fieldOf(model, table, field), beginning) }
  const read = (options: object) => bench.everything.list(table, { fields: [], ...options })
  const [own, next] = await Promise.all([
    read({ where: keyAmong(model, table, [printKey(model, table, first)]) }),
    read({ after: first, limit: most }),
  ])
  return [...own, ...next].filter((record) => String(record[field]).startsWith(beginning)).slice(0, most)
}

/** The first value of a field, in its order, that begins so. */
const firstWith = ({ type }: Shape, beginning: unknown): string =>
  type === 'uuid' ? String(beginning) + NIL.slice(String(beginning).length) : String(beginning)

/** The first of all uuids. */
const NIL = '00000000-0000-0000-0000-000000000000'

/**
 * The key that was typed, whole: where no record has it as it is, the one that begins so.
 *
 * @returns the key as it is printed; what was typed, where there is nothing that begins so
 * @throws {AmbiguousKeyError} where several begin so
 */
export async function wholeKey(bench: Workbench, table: string, typed: string): Promise<string> {
  const { model } = bench.rulebook
  const parts = typed.split(',').map((part) => part.trim())
  const fields = keyFieldsOf(model, table)
  if (parts.length !== fields.length || parts.includes('')) return typed
  const read = fields.map(([name, field], at): TypedPart => {
    const value = readTyped(field, parts[at] ?? '')
    const isText = field.type === 'text' || field.type === 'uuid'
    return { name, field, value, isText }
  })
  if (!read.every(({ field, value, isText }) => accepts(field, isText ? firstWith(field, value) : value))) return typed
  if (!read.some(({ isText }) => isText) || (await isThere(bench, table, read))) return typed
  const [first, ...more] = await begunWith(bench, table, read)
  if (first === undefined) return typed
  if (more.length === 0) return first
  throw new AmbiguousKeyError(
    `Several records of ${table} have keys that begin with ${typed}: ${[first, ...more].join('; ')}${more.length >= TOLD ? ' …' : ''}`,
  )
}

/** So many of the keys that begin alike are told, besides the first. */
const TOLD = 3

/** What was typed for a field of a key; of a text, it may be the beginning. */
interface TypedPart {
  readonly name: string
  readonly field: FieldData
  readonly value: unknown
  readonly isText: boolean
}

async function isThere(bench: Workbench, table: string, read: readonly TypedPart[]): Promise<boolean> {
  if (!read.every(({ field, value }) => accepts(field, value))) return false
  const key = Object.fromEntries(read.map(({ name, value }) => [name, value])) as KeyValues
  return (await missingKeys(bench, table, [printKey(bench.rulebook.model, table, key)])).length === 0
}

/** The keys that begin as they were typed, by the conditions there are: none is about the beginning of a uuid. */
async function begunWith(bench: Workbench, table: string, read: readonly TypedPart[]): Promise<readonly string[]> {
  const [first, ...others] = read
  // MariaDB's own uuids have an order in which those that begin alike do not stand together.
  if (first?.field.type === 'uuid' && others.length === 0 && bench.store.dialect.name !== 'mariadb') {
    const begun = await beginningWith(bench, table, first.name, String(first.value), TOLD + 1)
    return begun.map((record) => printKey(bench.rulebook.model, table, record))
  }
  const asked = read.filter(({ field }) => field.type !== 'uuid')
  const where = (row: never) =>
    all(
      ...asked.map(({ name, value, isText }) => {
        const term = (row as AnyRow)[name] as AnyRow[string]
        return isText ? term.startsWith(String(value)) : term.is(value)
      }),
    )
  const found: string[] = []
  for await (const record of bench.everything.stream(table, { fields: [], ...(asked.length > 0 && { where }) })) {
    const begins = ({ name, value, isText }: TypedPart) => !isText || String(record[name]).startsWith(String(value))
    if (!read.every(begins)) continue
    found.push(printKey(bench.rulebook.model, table, record))
    if (found.length > TOLD) break
  }
  return found
}
