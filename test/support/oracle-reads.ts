// What reads answer, in the plainest way: see oracle.ts.
import type { Data } from 'pachter'
import { childrenOf, parentsOf } from 'pachter/model'
import { isAt, keyOf } from './keys.js'
import { Oracle } from './oracle.js'
import { gone, order, same } from './oracle-values.js'
import type { Options, Question } from './questions.js'

type Row = Readonly<Record<string, unknown>>

/** What comes of a read: an answer, or the statuses that may be told. */
export type Read = { readonly answer: unknown } | { readonly statuses: readonly number[] }

/** What a caller sees, as if there were nothing else: whatever a caller asks for is looked for in it. */
class Seen extends Oracle {
  constructor(readonly all: Oracle) {
    super(all.rulebook, seenData(all), all.who, all.now)
  }

  /** Whatever is seen is there. */
  protected override isThere(): boolean {
    return true
  }

  /** What may be done to a record is decided by all of it. */
  override may(table: string, action: string, { at: [row] }: Parameters<Oracle['may']>[2]): boolean {
    const key = keyOf(this.rulebook.model, table)
    const whole = (this.all.data[table] ?? []).find((each) => key.every((name) => same(each[name], row?.[name])))
    return whole !== undefined && this.all.may(table, action, { at: [whole] })
  }
}

function seenData(all: Oracle): Data {
  const rowsOf = (table: string) =>
    (all.data[table] ?? []).flatMap((row) => {
      const fields = all.sees(table, row, 'list')
      return fields ? [Object.fromEntries(fields.map((name) => [name, row[name]]))] : []
    })
  return Object.fromEntries(Object.keys(all.data).map((table) => [table, rowsOf(table)]))
}

/** Foretells a read. */
export function foretellRead(all: Oracle, { method, table, given }: Question): Read {
  const seen = new Seen(all)
  const how = method === 'get' ? 'get' : 'list'
  if (!all.isOpen(table, how)) return { statuses: all.softened(table, how, 403) }
  if (method === 'get') {
    const [id, options = {}] = given as [unknown, Options?]
    const row = (all.data[table] ?? []).find((each) => isAt(all.rulebook.model, table, each, id))
    const fields = row && all.sees(table, row, 'get')
    if (!row || !fields) return { statuses: all.softened(table, how, 404) }
    return { answer: record(seen, table, Object.fromEntries(fields.map((name) => [name, row[name]])), options) }
  }
  const [options = {}] = given as [Options?]
  const rows = chosen(seen, table, seen.data[table] ?? [], options)
  if (method === 'count') return { answer: rows.length }
  if (method === 'exists') return { answer: rows.length > 0 }
  return { answer: rows.map((row) => record(seen, table, row, options)) }
}

/** Which of these records were asked for, in order. */
function chosen(seen: Seen, table: string, rows: readonly Row[], options: Options): readonly Row[] {
  const { where, orderBy = [], limit, offset = 0, after } = options
  const terms = [...orderBy, ...keyOf(seen.rulebook.model, table)].map((term) => {
    const [name = '', down] = term.split(' ')
    return { name, sign: down ? -1 : 1 }
  })
  const compare = (left: Row, right: Row) => {
    for (const { name, sign } of terms) {
      const difference = comesBefore(left[name], right[name])
      if (difference !== 0) return sign * difference
    }
    return 0
  }
  const found = rows.filter(
    (row) => (!where || seen.is(where, { at: [row] })) && (!after || compare(row, after as Row) > 0),
  )
  return found.sort(compare).slice(offset, limit === undefined ? undefined : offset + limit)
}

/** Below 0 where the left one comes first; what is missing comes before all else. */
function comesBefore(left: unknown, right: unknown): number {
  if (gone(left) || gone(right)) return Number(gone(right)) - Number(gone(left))
  const [one, two] = [order(left), order(right)]
  return one < two ? -1 : one > two ? 1 : 0
}

/** A record as asked for, with what it refers to and what refers to it. */
function record(seen: Seen, table: string, row: Row, { fields, with: related = {} }: Options): Row {
  const { model } = seen.rulebook
  const own = Object.entries(row).filter(
    ([name]) => !fields || fields.includes(name) || keyOf(seen.rulebook.model, table).includes(name),
  )
  const steps = [...parentsOf(model, table), ...childrenOf(model, table)]
  const others = Object.entries(related).map(([name, options]) => {
    const step = steps.find((each) => each.name === name && (each.one || each.to === options.by))
    if (!step) throw new Error(`No step ${name}.`)
    const there = (seen.data[step.table] ?? []).filter(
      (other) => !gone(row[step.from]) && same(other[step.to], row[step.from]),
    )
    const found = chosen(seen, step.table, there, options).map((each) => record(seen, step.table, each, options))
    return [name, step.one ? (found[0] ?? null) : found]
  })
  return Object.fromEntries([...own, ...others])
}
