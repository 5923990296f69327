import {
  type Bindings,
  type ChangeRequest,
  type CreateRequest,
  type Given,
  type ReadRecord,
  type RemoveRequest,
  type WritePlan,
  type Written,
} from '../../guard/index.js'
import { withAnswer } from '../../guard/index.js'
import { keyFieldsOf, tableOf } from '../../model/index.js'
import { readerFor } from '../stored.js'
import { planChange, planCreate, planRemove, type Writing } from '../write.js'
import type { SqlPlace } from './place.js'
import { bytesOf, compilationOf, runStatement, type Workshop } from './planned.js'
import type { Outcome } from './sql-store.js'

/** A new record. */
export function creating(workshop: Workshop, request: CreateRequest): WritePlan {
  const write = planCreate(compilationOf(workshop), request)
  return writePlan(workshop, write, (outcome) => {
    const came = written(write, outcome)
    if (request.records === 1) return { ...came, key: numbered(workshop, request, outcome) }
    return came.records ? { ...came, records: inOrder(workshop, request, came.records) } : came
  })
}

/** A change. */
export function changing(workshop: Workshop, request: ChangeRequest): WritePlan {
  const write = planChange(compilationOf(workshop), request)
  return writePlan(workshop, write, (outcome) => written(write, outcome))
}

/** A removal. */
export function removing(workshop: Workshop, request: RemoveRequest): WritePlan {
  const write = { statement: planRemove(compilationOf(workshop), request) }
  return writePlan(workshop, write, (outcome) => written(write, outcome))
}

function writePlan(
  { dialect }: Workshop,
  { statement, read }: Writing,
  come: (outcome: Outcome) => Written,
): WritePlan {
  return {
    bytes: bytesOf(statement),
    returns: read !== undefined,
    run: (at: SqlPlace, bindings: Bindings) => withAnswer(runStatement(dialect, at, statement, bindings), come),
  }
}

const written = ({ read }: Writing, { touched, rows }: Outcome): Written => ({
  touched,
  ...(read && { records: rows.map((row) => read(row as Record<string, unknown>)) }),
})

/** New records in the order in which they were given: where the database numbers them, that of their numbers. */
function inOrder({ rulebook }: Workshop, { table, stored }: CreateRequest, records: readonly ReadRecord[]) {
  const [number] = tableOf(rulebook.model, table).key.filter((name) => !stored.includes(name))
  if (number === undefined) return records
  return [...records].sort((left, right) => ((left[number] as number) < (right[number] as number) ? -1 : 1))
}

/** The part of a new record's key that the database numbered itself. */
function numbered({ rulebook, dialect }: Workshop, { table, stored }: CreateRequest, outcome: Outcome): Given {
  const [row] = outcome.rows
  const parts = keyFieldsOf(rulebook.model, table).filter(([name]) => !stored.includes(name))
  return Object.fromEntries(
    parts.map(([name, field]) => {
      const given = row ? row[name] : outcome.createdId
      return [name, readerFor(dialect, field)?.(given) ?? given]
    }),
  )
}
