import {
  type ChangeRequest,
  type CreateRequest,
  type Given,
  type RemoveRequest,
  type WritePlan,
  type Written,
} from '../../guard/index.js'
import { keyFieldsOf } from '../../model/index.js'
import { readerFor } from '../stored.js'
import { planChange, planCreate, planRemove, type Writing } from '../write.js'
import type { Compilation } from '../condition.js'
import { refuseLasting } from './lasting.js'
import { compilationOf, planOf, type Workshop } from './planned.js'
import type { Outcome } from './sql-store.js'

/** What a write to a table is compiled with. */
function writable(workshop: Workshop, table: string): Compilation {
  const compilation = compilationOf(workshop)
  refuseLasting(compilation, table)
  return compilation
}

/** A new record. */
export function creating(workshop: Workshop, request: CreateRequest): WritePlan {
  const write = planCreate(writable(workshop, request.table), request)
  return planOf(workshop.dialect, write.statement, (outcome) => ({
    ...written(write, outcome),
    keys: () => numbered(workshop, request, outcome),
  }))
}

/** A change. */
export function changing(workshop: Workshop, request: ChangeRequest): WritePlan {
  const write = planChange(writable(workshop, request.table), request)
  return planOf(workshop.dialect, write.statement, (outcome) => written(write, outcome))
}

/** A removal. */
export function removing(workshop: Workshop, request: RemoveRequest): WritePlan {
  const write = { statement: planRemove(writable(workshop, request.table), request) }
  return planOf(workshop.dialect, write.statement, (outcome) => written(write, outcome))
}

const written = ({ read }: Writing, { touched, rows }: Outcome): Written => ({
  touched,
  ...(read && { records: once(() => rows.map((row) => read(row as Record<string, unknown>))) }),
})

/** A row becomes the record that is read from it, so that it is read once. */
function once<T>(work: () => T): () => T {
  let done: { readonly value: T } | undefined
  return () => (done ??= { value: work() }).value
}

/** The parts of new records' keys that the database numbered itself: in the order of the records, which is theirs. */
function numbered(
  { rulebook, dialect }: Workshop,
  { table, stored }: CreateRequest,
  { rows }: Outcome,
): readonly Given[] {
  const [part] = keyFieldsOf(rulebook.model, table).filter(([name]) => !stored.includes(name))
  if (!part) return []
  const [name, field] = part
  const read = readerFor(dialect, field, `${table}.${name}`) ?? ((value: unknown) => value)
  const numbers = rows.map((row) => read(row[name]) as number | bigint)
  return numbers.sort((left, right) => (left < right ? -1 : 1)).map((number) => ({ [name]: number }))
}
