import { withoutTrace } from '../../sql/index.js'
import {
  asideOf,
  fieldOf,
  PachterError,
  parseKey,
  storedTable,
  UnknownNameError,
  type Value,
} from '../../model/index.js'
import { recordAt } from '../bench/keys.js'
import { isSame, writeValue } from '../bench/values.js'
import { write } from './write.js'
import type { Workbench } from '../bench/workbench.js'
import type { TryExpectation } from '../expect/expectation.js'
import type { MemoryRecord } from '../../decide/index.js'
import { rulesOf } from '../../rules/index.js'

/** What came of a write that was tried and taken back. */
export interface Tried {
  readonly status: number
  readonly message?: string
  /** What the developer may want to know of the refusal, and the caller is not told. */
  readonly hint?: string
  /** Problems by field, where the refusal was about fields. */
  readonly fields?: Readonly<Record<string, string>>
  /** The record's key; of a create, the one it got. */
  readonly key?: Readonly<Record<string, unknown>>
  /** The record as it was stored before; none of a create. */
  readonly before?: MemoryRecord
  /** The record as it was stored afterwards; none where nothing was written, or it was deleted. */
  readonly after?: MemoryRecord
}

/** A write to try. */
export type Attempt = Pick<TryExpectation, 'caller' | 'table' | 'action' | 'key' | 'values' | 'at'>

/**
 * Writes as a caller, looks what came of it, and takes everything back.
 *
 * @param meanwhile looks further, while it is written
 * @throws {MissingRecordError} where there is no such record
 */
export async function tryWrite(
  bench: Workbench,
  { caller, table, action, key, values, at }: Attempt,
  meanwhile: (inside: Workbench, key: Readonly<Record<string, unknown>>) => Promise<void> = async () => undefined,
): Promise<Tried> {
  return withoutTrace(bench.store, [storedTable(bench.rulebook.model, table)], async (store) => {
    const { model } = bench.rulebook
    const inside = bench.instead({ store, ...(at && { clock: () => at }) })
    const given = key === undefined ? undefined : parseKey(model, table, key)
    const before = given && (await recordAt(inside, table, given))
    const kept = before && { before }
    const outcome = await write(inside.as(caller), action, table, given, values).then(
      (written) => ({ written }),
      (error: unknown) => ({ refused: refusalFrom(error) }),
    )
    if ('refused' in outcome) return { ...outcome.refused, ...kept, ...(given && { key: given }) }
    const of = outcome.written ?? given ?? {}
    // What a delete only sets something of is there afterwards.
    const isLeft = action !== 'delete' || rulesOf(bench.rulebook, table).gone?.onDelete !== undefined
    const after = isLeft ? await recordAt(inside, table, keyOf(bench, table, of)) : undefined
    await meanwhile(inside, of)
    return { status: 200, key: of, ...kept, ...(after && { after }) }
  })
}

/** An error as an answer to the caller. What has no status is none, but a fault. */
function refusalFrom(error: unknown): Pick<Tried, 'status' | 'message' | 'hint' | 'fields'> {
  const { status, fields } = error as { readonly status?: number; readonly fields?: Record<string, string> }
  const isMistake = !(error instanceof PachterError) || error instanceof UnknownNameError
  if (isMistake || status === undefined) throw error
  const { hint } = asideOf(error)
  return { status, message: error.message, ...(hint !== undefined && { hint }), ...(fields && { fields }) }
}

const keyOf = ({ rulebook }: Workbench, table: string, record: MemoryRecord) =>
  Object.fromEntries((rulebook.model.tables[table]?.key ?? []).map((name) => [name, record[name] as Value]))

/** What differs from what was expected of a write, in sentences. */
export function tryDifferences(
  { rulebook }: Workbench,
  expected: TryExpectation,
  { status, message, after }: Tried,
): readonly string[] {
  const said = message === undefined ? '' : `: ${message}`
  if (status !== expected.status) return [`it should give ${expected.status}, but it gives ${status}${said}`]
  if (expected.message !== undefined && !(message ?? '').includes(expected.message)) {
    return [`the message should say “${expected.message}”, but it is “${message ?? ''}”`]
  }
  return Object.entries(expected.stored ?? {})
    .filter(([field, value]) => !isSame(fieldOf(rulebook.model, expected.table, field), value, after?.[field]))
    .map(
      ([field, value]) => `${field} should be stored as ${writeValue(value)}, but it is ${writeValue(after?.[field])}`,
    )
}
