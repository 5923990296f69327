import { columnInJson, isTrue, type Reader, readerFor, selectedColumn } from './stored.js'
import { compileEqual } from './compare.js'
import { always, type Condition, shift } from '../condition/index.js'
import type { Access, Facts } from '../decide/index.js'
import { keySlot, type RecordRequest, type RelatedRequest } from '../guard/index.js'
import { deepFreeze, keyFieldsOf, LimitError, LIMITS, type Shape, tableOf } from '../model/index.js'
import { answerColumns, type Column } from './answers.js'
import { type Compilation, compileCondition, type Scope, scopeAt, tableAs, typedColumn } from './condition.js'
import type { Dialect, ReadList } from './dialect.js'
import { type Fragment, join, raw, slot, sql } from './fragment.js'
import { orderBy } from './order.js'
import { handedOut } from './traits.js'

/** The columns that make up a record, and how to read it from them. */
export interface RecordPlan {
  readonly columns: readonly Column[]
  /** The record without the fields hidden from this caller. */
  read(row: Record<string, unknown>): Record<string, unknown>
}

/** Plans the columns of a record; those of a related one, at a deeper level, travel in JSON. */
export function planRecord(compilation: Compilation, request: RecordRequest, scopes: readonly Scope[]): RecordPlan {
  const { rulebook, dialect } = compilation
  const { table, access, related, masks: unshifted, sight = always } = request
  const { fields, key } = tableOf(rulebook.model, table)
  const level = scopes.length - 1
  const root = scopes[level] as Scope
  const inJson = level > 0
  const chosen = Object.entries(fields).filter(
    ([name]) => key.includes(name) || request.fields?.includes(name) !== false,
  )
  const masks = new Map([...unshifted].map(([field, condition]) => [field, shift(condition, level)]))
  const masked = chosen.filter(([name]) => masks.has(name)).map(([name]) => name)
  const asked = [
    ...(access?.questions ?? []).map(({ id, condition }) => ({ id, condition: shift(condition, level) })),
    ...masked.map((name) => ({ id: maskId(name), condition: masks.get(name) as Condition })),
  ]
  const answers = answerColumns(compilation, scopes, [...asked, { id: SIGHT, condition: sight }])
  const accessOf = access && sharedAccess(access.read, answers.columns)
  const values = chosen.map(([name, field]) => {
    const own = handedOut(compilation, table, name, root.column(name))
    const column = (inJson ? columnInJson : selectedColumn)(dialect, own, field)
    const mask = masks.get(name)
    const seen = mask && compileCondition(compilation, mask, scopes)
    return { name, text: seen ? sql`CASE WHEN ${seen} THEN ${column} END` : column }
  })
  const joined = related.map((each) => planRelated(compilation, each, table, scopes))
  const columns = [...values, ...answers.columns, ...joined.flatMap(({ column }) => column ?? [])]
  const shown = chosen.map(([name, field]) => ({
    name,
    read: readerFor(dialect, field, `${table}.${name}`),
    isKey: key.includes(name),
    ...(masks.has(name) && !key.includes(name) && { mask: maskId(name) }),
  }))
  // The row is the record, and nobody else's: a copy would cost more than all else.
  const isPlain =
    columns.length === chosen.length &&
    masked.length === 0 &&
    related.length === 0 &&
    !accessOf &&
    sight.kind === 'always'
  if (isPlain) {
    const readers = shown.flatMap(({ name, read }) => (read ? [{ name, read }] : []))
    const readRow = (row: Record<string, unknown>) => {
      for (const { name, read } of readers) {
        const value = row[name]
        if (value === null) continue
        const made = read(value)
        if (made !== value) row[name] = made
      }
      return row
    }
    return { columns, read: readRow }
  }
  const isSure = sight.kind === 'always'
  return {
    columns,
    read: (row) => {
      const facts = answers.answersOf(row)
      const seen = isSure || facts(SIGHT)
      const record: Record<string, unknown> = {}
      // What is hidden is not read either: there is nothing wrong with it.
      for (const { name, read: readOne, isKey, mask } of shown) {
        if (!isKey && !(seen && (mask === undefined || facts(mask)))) continue
        const value = row[name]
        record[name] = value === null || !readOne ? value : readOne(value)
      }
      for (const { name, read: readAll } of joined) record[name] = readAll(row[relatedId(name)])
      if (accessOf) record['$access'] = accessOf(row, facts)
      return record
    },
  }
}

/** How many different combinations of answers are remembered. */
const COMBINATIONS = 256

/** Records with the same answers have the same access: one object serves them all. */
function sharedAccess(read: (facts: Facts) => Access, columns: readonly Column[]) {
  const known = new Map<number | string, Access>()
  const names = columns.map(({ name }) => name)
  // A number holds so many answers exactly; beyond, a text does.
  const fits = names.length <= 50
  return (row: Readonly<Record<string, unknown>>, facts: Facts): Access => {
    let answers: number | string = fits ? 0 : ''
    for (const name of names) {
      const holds = isTrue(row[name])
      answers = typeof answers === 'number' ? answers * 2 + Number(holds) : answers + (holds ? '1' : '0')
    }
    const same = known.get(answers)
    if (same) return same
    const access = deepFreeze(read(facts))
    if (known.size >= COMBINATIONS) known.clear()
    known.set(answers, access)
    return access
  }
}

/** How related records are read: with a column of their own, where there can be any. */
interface RelatedPlan {
  readonly name: string
  readonly column?: Column
  read(json: unknown): unknown
}

function planRelated(
  compilation: Compilation,
  request: RelatedRequest,
  around: string,
  scopes: readonly Scope[],
): RelatedPlan {
  const { dialect } = compilation
  const { relation, filter, from, to, order, limit } = request
  const level = scopes.length
  const seen = [from && shift(from, level - 1), to && shift(to, level), shift(filter, level)].filter(
    (condition) => condition !== undefined,
  )
  if (seen.some(({ kind }) => kind === 'never')) return { name: relation.name, read: () => (relation.one ? null : []) }
  const inner = scopeAt(compilation, relation.table, level)
  const deeper = [...scopes, inner]
  const outer = scopes[level - 1] as Scope
  const plan = planRecord(compilation, request, deeper)
  const matches = compileEqual(
    dialect,
    typedColumn(compilation, inner, relation.to),
    typedColumn(compilation, outer, relation.from),
  )
  const sorted = order.map((each) => (each.sight ? { ...each, sight: shift(each.sight, level) } : each))
  const list = dialect.jsonList({
    each: dialect.jsonArray(plan.columns.map(({ text }) => text)),
    source: tableAs(compilation, relation.table, level),
    where: join([matches, ...seen.map((condition) => compileCondition(compilation, condition, deeper))], ' AND '),
    order: orderBy(compilation, inner, sorted, deeper),
    ...(limit !== undefined && { limit: raw(String(limit)) }),
  })
  const names = plan.columns.map(({ name }) => name)
  const readOne = (values: readonly unknown[]) => {
    const row: Record<string, unknown> = {}
    for (let at = 0; at < names.length; at += 1) row[names[at] as string] = values[at]
    return plan.read(row)
  }
  return {
    name: relation.name,
    column: { name: relatedId(relation.name), text: level === 1 ? dialect.listColumn(list) : list },
    read: (json: unknown) => {
      const { records: found, whole } = readList(dialect, json)
      if (!whole) throw new LimitError(`bytes of ${relation.name} with one record of ${around}`, LIMITS.relatedBytes)
      const records = found.map(readOne)
      return relation.one ? (records[0] ?? null) : records
    },
  }
}

/** What was cut off is no JSON, most of the time. */
function readList(dialect: Dialect, json: unknown): ReadList {
  try {
    return dialect.readList(json)
  } catch {
    return { records: [], whole: false }
  }
}

const SIGHT = 'sight of the record'
const maskId = (field: string): string => `mask ${field}`
const relatedId = (name: string): string => `$with ${name}`

/** Reads a field's values as the driver returns them. */
export function valueReader(dialect: Dialect, shape: Shape, place: string): Reader | undefined {
  const read = readerFor(dialect, shape, place)
  return read && ((value) => (value === null ? null : read(value)))
}

/** A column under its name. */
export const selectedAs = (dialect: Dialect, { name, text }: Column): Fragment =>
  sql`${text} AS ${raw(dialect.identifier(name))}`

/** Whether a record is the one whose key is given with the request. */
export function keyIs(compilation: Compilation, table: string, root: Scope, at = 0): Fragment {
  const { rulebook, dialect } = compilation
  const parts = keyFieldsOf(rulebook.model, table).map(([name, shape]) => {
    const given = { text: slot({ kind: 'given', name: keySlot(name, at) }, shape), shape }
    return compileEqual(dialect, typedColumn(compilation, root, name), given)
  })
  return join(parts, ' AND ')
}

/** Whether a record is one of so many whose keys are given with the request. */
export function keysAre(compilation: Compilation, table: string, root: Scope, records: number): Fragment {
  if (records === 1) return keyIs(compilation, table, root)
  const each = Array.from({ length: records }, (_, at) => sql`(${keyIs(compilation, table, root, at)})`)
  return sql`(${join(each, ' OR ')})`
}
