import { parseKey, printKey, tableOf } from '../../model/index.js'
import type { Everyone } from '../../sql/index.js'
import { type Attempt, type Tried, tryWrite } from './tries.js'
import { byKey } from '../look/by-key.js'
import { lookAt } from '../look/look.js'
import { whoSees } from '../look/reach.js'
import { isSame } from '../bench/values.js'
import { titleOf } from '../bench/titles.js'
import type { Workbench } from '../bench/workbench.js'

/** Who sees a record before a write, and after it. */
export interface SightChange {
  readonly before: readonly string[]
  readonly after: readonly string[]
}

/** What would come of a write. */
export interface Attempted {
  readonly attempt: Attempt
  /** The record's key; of a create, the one it would have got. */
  readonly key?: string
  readonly title?: string
  /** 200 where it would be done. */
  readonly status: number
  readonly message?: string
  /** What the developer may want to know of the refusal, and the caller is not told. */
  readonly hint?: string
  /** The fields it would change, with their values before and after. */
  readonly changes: readonly { readonly field: string; readonly before: unknown; readonly after: unknown }[]
  /** Which of the named callers see the record; nothing where nothing would be written. */
  readonly callers?: SightChange
  /** The same of everyone in the table of callers, by title or key, where there is such a table. */
  readonly everyone?: SightChange & { readonly table: string; readonly size: number }
}

/**
 * Writes as a caller on the database as it is, looks what comes of it and who sees the record before and after, and
 * takes everything back.
 *
 * @param everyone the table of callers; left out, only the named ones are looked at
 * @throws {MissingRecordError} where there is no such record
 * @throws {LastingTableError} where the database could not take it back
 * @example
 * const attempt = { caller: 'ana', action: 'update', table: 'entries', key: '1', values: { audience: 'public' } }
 * const { callers } = await tryAs(bench, attempt)
 */
export async function tryAs(bench: Workbench, attempt: Attempt, everyone?: Everyone): Promise<Attempted> {
  const { table, key: written } = attempt
  const { model } = bench.rulebook
  const before = written === undefined ? NOBODY : await seers(bench, table, written, everyone)
  let after = NOBODY
  const tried = await tryWrite(bench, attempt, async (inside, key) => {
    after = await seers(inside, table, printKey(model, table, key), everyone)
  })
  const record = tried.after ?? tried.before
  const title = titleOf(bench, table, record)
  const size = everyone ? await bench.everything.count(everyone.table) : 0
  return {
    attempt,
    ...(tried.key && { key: printKey(model, table, tried.key) }),
    ...(title !== undefined && { title }),
    status: tried.status,
    ...(tried.message !== undefined && { message: tried.message }),
    ...(tried.hint !== undefined && { hint: tried.hint }),
    changes: tried.status === 200 ? changesIn(bench, table, tried) : [],
    ...(tried.status === 200 && {
      callers: { before: before.callers, after: after.callers },
      ...(everyone && { everyone: { table: everyone.table, size, before: before.everyone, after: after.everyone } }),
    }),
  }
}

interface Seers {
  readonly callers: readonly string[]
  readonly everyone: readonly string[]
}

const NOBODY: Seers = { callers: [], everyone: [] }

async function seers(bench: Workbench, table: string, key: string, everyone: Everyone | undefined): Promise<Seers> {
  const { model } = bench.rulebook
  const callers: string[] = []
  for (const name of bench.names) {
    const isSeen = async (at: Workbench | undefined) =>
      at !== undefined &&
      (await lookAt(at, name, table, { whole: false, count: false, mentioned: [key] })).records.size > 0
    if ((await isSeen(bench)) || (await isSeen(byKey(bench, table)))) callers.push(name)
  }
  return { callers, everyone: everyone ? await whoSees(bench, everyone, table, parseKey(model, table, key)) : [] }
}

function changesIn({ rulebook }: Workbench, table: string, { before, after }: Tried): Attempted['changes'] {
  const { fields } = tableOf(rulebook.model, table)
  return Object.entries(fields)
    .map(([field, shape]) => ({ field, shape, before: before?.[field] ?? null, after: after?.[field] ?? null }))
    .filter((each) => !isSame(each.shape, each.before, each.after))
    .map(({ shape: _, ...change }) => change)
}
