import { any, type Condition } from '../condition/index.js'
import type { UntypedStore } from '../guard/index.js'
import { isMissing, keyPath, type KeyValues, type ModelData, tableOf } from '../model/index.js'
import type { Change, KnownRow } from './changes.js'
import { LIVE_LIMITS } from './limits.js'
import type { Step, Trail } from './trails.js'

/** Records by the path of their key; or all there are, where it is not known which. */
export type Touched = ReadonlyMap<string, KeyValues> | 'all'

/** Whether a change is of some of these fields, there: what is new, or gone, has another of each. */
const isOf = (fields: ReadonlySet<string>, table: string, change: Change): boolean =>
  change.table === table && fields.size > 0 && (!change.fields || change.fields.some((name) => fields.has(name)))

/** Whether a change could make a difference to what is in the list. */
export const decides = ({ table, decisive }: Trail, change: Change): boolean => isOf(decisive, table, change)
/** Whether a change could show in what is in the list. */
export const shows = ({ table, shown }: Trail, change: Change): boolean => isOf(shown, table, change)
/** Whether a change could make any difference to who looks there. */
export const concerns = (trail: Trail, change: Change): boolean => decides(trail, change) || shows(trail, change)

/**
 * Which records of a table a change touches, by one trail: those from which it leads to a row that was written, as the row was
 * or as it is. Where the row itself is one of them, nothing is asked; else one query finds them.
 *
 * @param table the table whose records the trail starts from
 */
export async function touchedBy(
  store: UntypedStore,
  model: ModelData,
  table: string,
  { steps, caller }: Trail,
  changes: readonly Change[],
): Promise<Touched> {
  if (caller !== undefined || steps.some(({ chain }) => chain)) return 'all'
  const rows: KnownRow[] = []
  for (const { rows: some } of changes) {
    if (!some) return 'all'
    rows.push(...some)
  }
  const { key } = tableOf(model, table)
  const last = steps.at(-1)
  if (!last) return byKeys(model, table, rows)
  const values = new Set<unknown>()
  for (const row of rows) {
    if (row[last.to] === undefined) return 'all'
    if (!isMissing(row[last.to])) values.add(row[last.to])
  }
  if (values.size === 0) return new Map()
  if (steps.length === 1 && key.length === 1 && key[0] === last.from) {
    return byKeys(
      model,
      table,
      [...values].map((value) => ({ [last.from]: value })),
    )
  }
  if (values.size > LIVE_LIMITS.recordsATime) return 'all'
  const where = (row: AnyRow) => leads(row, steps, [...values])
  const most = LIVE_LIMITS.recordsATime
  const found = await store.list(table, { where: where as never, fields: key, limit: most + 1 })
  return found.length > most ? 'all' : byKeys(model, table, found)
}

function byKeys(model: ModelData, table: string, rows: readonly KnownRow[]): Touched {
  const { key } = tableOf(model, table)
  const found = new Map<string, KeyValues>()
  for (const row of rows) {
    if (key.some((name) => isMissing(row[name]))) return 'all'
    const values = Object.fromEntries(key.map((name) => [name, row[name]])) as KeyValues
    found.set(keyPath(model, table, values), values)
  }
  return found.size > LIVE_LIMITS.rowsATime ? 'all' : found
}

/** A row as conditions are built from it: the model says what there is. */
interface AnyRow {
  readonly [name: string]: AnyRow & AnyMany & { is(value: unknown): Condition }
}

interface AnyMany {
  by(field: string): { some(where: (row: AnyRow) => Condition): Condition }
}

/** Whether steps lead from a record to one where they end with one of these values. */
function leads(row: AnyRow, [step, ...rest]: readonly Step[], values: readonly unknown[]): Condition {
  const { relation, from, to, one } = step as Step
  if (rest.length === 0) return any(...values.map((value) => (row[from] as AnyRow[string]).is(value)))
  const there = row[relation] as AnyRow[string]
  if (one) return leads(there, rest, values)
  return there.by(to).some((each) => leads(each, rest, values))
}
