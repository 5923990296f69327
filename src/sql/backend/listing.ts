import { type Condition, sizeOf } from '../../condition/index.js'
import {
  type Bindings,
  type CountRequest,
  type Form,
  LIMIT,
  type Listing,
  type ListRequest,
  OFFSET,
  type Plan,
  type RecordRequest,
  withAnswer,
} from '../../guard/index.js'
import { planCount, planExists, planList, type ReadPlan } from '../read.js'
import type { Statement } from '../statement.js'
import { type Choice, chooser } from './choose.js'
import type { SqlPlace } from './place.js'
import { compilationOf, runStatement, type Workshop } from './planned.js'
import type { Outcome } from './sql-store.js'

/** A list in the form that serves best for the caller at hand. */
export function listing(workshop: Workshop, request: ListRequest): Listing {
  const { dialect } = workshop
  const { table, filter, form, order } = request
  const inForm = perForm((each) => planList({ ...compilationOf(workshop), form: each }, request))
  const choose = form ? chosen(form) : chooser(workshop, table, filter, order)
  const wanted = ({ [LIMIT]: limit = Infinity, [OFFSET]: offset = 0 }: Bindings['given']) =>
    Number(limit) + Number(offset)
  const choice = (at: SqlPlace, bindings: Bindings) => choose(at, bindings, wanted(bindings.given))
  return {
    bytes: bytesFor([filter, ...conditionsOf(request)]),
    run: (at: SqlPlace, bindings) =>
      withAnswer(choice(at, bindings), ({ form: best }) => {
        const { statement, read } = inForm.of(best)
        return withAnswer(runStatement(dialect, at, statement, bindings), ({ rows }) =>
          rows.map((row) => read(row as Record<string, unknown>)),
        )
      }),
    explain: async (at: SqlPlace, bindings) => {
      const found = await choice(at, bindings)
      const { text, bind } = inForm.of(found.form).statement
      return { ...found, text, values: bind(bindings) }
    },
  }
}

/** How many records there are. */
export const counting = (workshop: Workshop, request: CountRequest): Plan<number> =>
  asking(workshop, request, planCount, Infinity, ({ rows }) => Number(rows[0]?.['count']))

/** Whether there is any. */
export const finding = (workshop: Workshop, request: CountRequest): Plan<boolean> =>
  asking(workshop, request, planExists, 1, ({ rows }) => rows.length > 0)

function asking<T>(
  workshop: Workshop,
  { table, filter, form }: CountRequest,
  plan: (compilation: ReturnType<typeof compilationOf>, table: string, filter: Condition) => Statement,
  wanted: number,
  read: (outcome: Outcome) => T,
): Plan<T> {
  const inForm = perForm((each) => ({ statement: plan({ ...compilationOf(workshop), form: each }, table, filter) }))
  const choose = form ? chosen(form) : chooser(workshop, table, filter)
  return {
    bytes: bytesFor([filter]),
    run: (at: SqlPlace, bindings) =>
      withAnswer(choose(at, bindings, wanted), ({ form: best }) =>
        withAnswer(runStatement(workshop.dialect, at, inForm.of(best).statement, bindings), read),
      ),
  }
}

const chosen =
  (form: Form): (() => Choice) =>
  () => ({ form })

/** Something for each form, made when it is first needed. */
function perForm<T extends Pick<ReadPlan, 'statement'>>(make: (form: Form) => T) {
  const made = new Map<Form, T>()
  return {
    of: (form: Form): T => {
      const known = made.get(form) ?? make(form)
      made.set(form, known)
      return known
    },
  }
}

/** About how many bytes the SQL of conditions takes in two forms, before it is written: so much for each part of them. */
const BY_PART = 600

function bytesFor(conditions: readonly Condition[]): number {
  return BY_PART * conditions.reduce((parts, condition) => parts + sizeOf(condition), 1)
}

/** The conditions of a list besides which records it is about. */
function conditionsOf({ masks, access, related }: RecordRequest): readonly Condition[] {
  return [
    ...masks.values(),
    ...(access?.questions ?? []).map(({ condition }) => condition),
    ...related.flatMap((each) => [each.filter, ...conditionsOf(each)]),
  ]
}
