import type { MemoryRecord } from '../../decide/index.js'
import { accepts, type FieldData, isMissing, printKey, tableOf } from '../../model/index.js'
import {
  changesRecord,
  covers,
  type FieldCheck,
  type Grant,
  isNeverGiven,
  type Rulebook,
  rulesOf,
} from '../../rules/index.js'
import type { Attempt } from '../try/tries.js'
import { omit } from './omit.js'

/** So many records of a table, and values of a field, are made candidates of. */
const RECORDS = 25
const VALUES = 6

/** Values that lie just outside of what checks let through, and around the moment. */
function edgeValues(field: FieldData, { length, range, pattern }: FieldCheck, now: Date): readonly unknown[] {
  const lists = field.type === 'list'
  const sized = (size: number) =>
    lists ? Array.from({ length: size }, () => (field.item === 'integer' ? 1 : 'x')) : 'x'.repeat(size)
  const ends = range && field.type === 'integer' ? [Number(range[0]) - 1, Number(range[1]) + 1] : []
  return [
    ...(length ? [sized(length[1] + 1), ...(length[0] > 0 ? [sized(length[0] - 1)] : [])] : []),
    ...(pattern === undefined ? [] : ['?']),
    ...ends,
    ...(field.type === 'timestamp' ? [new Date(now.getTime() + 86_400_000), new Date(now.getTime() - 86_400_000)] : []),
    ...(field.type === 'choice' ? (field.choices ?? []) : []),
    ...(field.optional ? [null] : []),
  ].filter((value) => value === null || accepts(field, value))
}

/**
 * Writes that could tell two rulebooks apart, made from the records there are: each action as each caller, with
 * values that other records have, that are missing, or that lie just outside of what a check lets through.
 *
 * @param records the records of the table
 * @param actions the actions to try; left out, all that write
 */
export function* candidates(
  rulebook: Rulebook,
  table: string,
  callers: readonly string[],
  records: readonly MemoryRecord[],
  now: Date,
  actions?: readonly string[],
): Generator<Attempt> {
  const rules = rulesOf(rulebook, table)
  const all = ['create', 'update', ...rules.actions, 'delete']
  for (const action of actions ?? all) {
    for (const caller of callers) {
      const made =
        action === 'create' ? creates(rulebook, table, records, now) : changes(rulebook, table, action, records, now)
      for (const { key, values } of made) yield { caller, table, action, values, ...(key !== undefined && { key }) }
    }
  }
}

type Made = Generator<{ readonly key?: string; readonly values: MemoryRecord }>

function* creates(rulebook: Rulebook, table: string, records: readonly MemoryRecord[], now: Date): Made {
  const grants = rulesOf(rulebook, table).grants['create'] ?? []
  for (const [at, record] of records.slice(0, RECORDS).entries()) {
    const next = records[(at + 1) % records.length] as MemoryRecord
    for (const grant of grants) yield* createsLike(rulebook, table, record, next, grant, records, now)
  }
}

/** A record like another, as this grant lets it be made: as it is, with less, with more, and with odd values. */
function* createsLike(
  rulebook: Rulebook,
  table: string,
  record: MemoryRecord,
  next: MemoryRecord,
  grant: Grant,
  records: readonly MemoryRecord[],
  now: Date,
): Made {
  const { fields, key } = tableOf(rulebook.model, table)
  const rules = rulesOf(rulebook, table)
  const settable = Object.keys(fields).filter(
    (name) => !isNeverGiven(rulebook, table, name) && !fields[name]?.generated,
  )
  const isGiven = (name: string) =>
    covers(grant, name) || !fields[name]?.optional || rules.checks.fields[name]?.onCreate === 'required'
  const given = settable.filter(isGiven)
  // A key of several fields is made of two records, since there is one for each already.
  const own = (name: string) => (key.includes(name) && name !== key[0] ? next[name] : record[name])
  const of = (name: string) => own(name) ?? records.find((each) => !isMissing(each[name]))?.[name]
  const plain = Object.fromEntries(given.filter((name) => !isMissing(of(name))).map((name) => [name, of(name)]))
  yield { values: plain }
  for (const name of Object.keys(plain)) {
    yield { values: omit(plain, name) }
    const edges = edgeValues(fields[name] as FieldData, rules.checks.fields[name] ?? {}, now)
    const others = fields[name]?.references ? [...new Set(records.map((each) => each[name]))].slice(0, VALUES) : []
    for (const value of [...edges, ...others]) if (value !== undefined) yield { values: { ...plain, [name]: value } }
  }
  for (const name of Object.keys(fields)) {
    if (!given.includes(name) && !isMissing(of(name))) yield { values: { ...plain, [name]: of(name) } }
  }
}

function* changes(
  rulebook: Rulebook,
  table: string,
  action: string,
  records: readonly MemoryRecord[],
  now: Date,
): Made {
  const { fields, key } = tableOf(rulebook.model, table)
  const rules = rulesOf(rulebook, table)
  const names = Object.keys(fields).filter((name) => !key.includes(name))
  const values = new Map(
    names.map((name) => [name, [...new Set(records.map((record) => record[name]))].slice(0, VALUES)]),
  )
  for (const record of records.slice(0, RECORDS)) {
    const named = { key: printKey(rulebook.model, table, record) }
    if (action !== 'update') yield { ...named, values: {} }
    if (!changesRecord(rules, action)) continue
    for (const name of names) {
      const edges = edgeValues(fields[name] as FieldData, rules.checks.fields[name] ?? {}, now)
      for (const value of [...edges, ...(values.get(name) ?? [])]) {
        if (value !== record[name] && value !== undefined) yield { ...named, values: { [name]: value } }
      }
    }
  }
}
