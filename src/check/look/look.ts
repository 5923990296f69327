import { type Access, RefusedError } from '../../decide/index.js'
import { printKey } from '../../model/index.js'
import { inBatches, keyAmong } from '../bench/keys.js'
import type { Workbench } from '../bench/workbench.js'

/** What has to be found out about what a caller sees of a table. */
export interface Wanted {
  /** Everything the caller sees. */
  readonly whole: boolean
  /** How many records the caller sees; the number, where it is known already. */
  readonly count: boolean | number
  /** Whether the caller sees these, by key. */
  readonly mentioned: readonly string[]
}

/** What a caller sees of a table, as far as it was asked for. */
export interface Look {
  /** The refusal of the table as a whole. */
  readonly refused?: { readonly status: 401 | 403 | 404; readonly message: string }
  /** How many records the caller sees; known where it was wanted, or everything was. */
  readonly count: number | undefined
  /** Whether these are all records the caller sees. */
  readonly whole: boolean
  /** What the caller may do to each record seen, by key. */
  readonly records: ReadonlyMap<string, Access>
}

/** Looks at a table as a caller, through the guard, with as few queries as that takes. */
export async function lookAt(bench: Workbench, caller: string, table: string, wanted: Wanted): Promise<Look> {
  const scoped = bench.as(caller)
  const records = new Map<string, Access>()
  const read = async (options: object) => {
    const found = await scoped.list(table, { fields: [], access: true, ...options })
    for (const record of found) records.set(printKey(bench.rulebook.model, table, record), record['$access'] as Access)
  }
  try {
    if (wanted.whole) {
      await read({})
      return { whole: true, records, count: records.size }
    }
    for (const batch of inBatches(wanted.mentioned)) {
      await read({ where: keyAmong(bench.rulebook.model, table, batch) })
    }
    const count = wanted.count === true ? await scoped.count(table) : wanted.count
    return { whole: false, records, count: count === false ? undefined : count }
  } catch (error) {
    if (!(error instanceof RefusedError)) throw error
    const { status, message } = error
    return { refused: { status, message }, whole: true, records: new Map(), count: 0 }
  }
}
