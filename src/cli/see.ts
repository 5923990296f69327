import chalk from 'chalk'
import { type Access, RefusedError } from '../decide/index.js'
import { printKey, tableOf } from '../model/index.js'
import { drawTable } from './table.js'
import type { Workbench } from './workbench.js'

/** A record as one caller sees it. */
export interface SeenRecord {
  readonly key: string
  readonly title?: string
  readonly access: Access
}

/** What one caller gets of a table: records, or a refusal. */
export type Sight =
  | { readonly records: readonly SeenRecord[] }
  | { readonly refused: { readonly status: number; readonly message: string } }

/** What callers see of one table, side by side. */
export interface SeenTable {
  readonly table: string
  readonly callers: Readonly<Record<string, Sight>>
}

/** Looks at a table as each of the callers. */
export async function gatherSeen(bench: Workbench, table: string, callers: readonly string[]): Promise<SeenTable> {
  tableOf(bench.rulebook.model, table)
  const sights: Record<string, Sight> = {}
  for (const name of callers) sights[name] = await look(bench, table, name)
  return { table, callers: sights }
}

async function look(bench: Workbench, table: string, name: string): Promise<Sight> {
  const titleField = bench.titles[table]
  try {
    const records = (await bench.as(name).list(table, { access: true })) as readonly (Record<string, unknown> & {
      $access: Access
    })[]
    return {
      records: records.map((record) => {
        const title = titleField === undefined ? undefined : record[titleField]
        const key = printKey(bench.rulebook.model, table, record)
        return { key, ...(title !== undefined && { title: String(title) }), access: record.$access }
      }),
    }
  } catch (error) {
    if (error instanceof RefusedError) return { refused: { status: error.status, message: error.message } }
    throw error
  }
}

/** How many records of each table each caller sees, or the status of the refusal. */
export interface SeenCounts {
  readonly callers: readonly string[]
  readonly tables: Readonly<Record<string, Readonly<Record<string, { count: number } | { status: number }>>>>
}

/** Counts what each caller sees of every table. */
export async function gatherCounts(bench: Workbench, callers: readonly string[]): Promise<SeenCounts> {
  const tables: Record<string, Record<string, { count: number } | { status: number }>> = {}
  for (const table of Object.keys(bench.rulebook.model.tables)) {
    const counts: Record<string, { count: number } | { status: number }> = {}
    for (const name of callers) {
      counts[name] = await bench
        .as(name)
        .count(table)
        .then((count) => ({ count }))
        .catch((error: unknown) => {
          if (error instanceof RefusedError) return { status: error.status }
          throw error
        })
    }
    tables[table] = counts
  }
  return { callers, tables }
}

/** Writes the counts for a terminal. */
export function printCounts({ callers, tables }: SeenCounts): string {
  const rows = Object.entries(tables).map(([table, counts]) => [
    table,
    ...callers.map((name) => {
      const seen = counts[name]
      if (seen && 'count' in seen) return seen.count === 0 ? chalk.dim('0') : String(seen.count)
      return chalk.dim(seen?.status === 401 ? 'sign in' : 'closed')
    }),
  ])
  return [
    drawTable(['records seen', ...callers], rows),
    '',
    chalk.dim('sign in: refused (401) until signed in; closed: refused (403) without asking the database'),
  ].join('\n')
}

/** Writes the callers' views of a table side by side for a terminal. */
export function printSeen({ table, callers }: SeenTable): string {
  const names = Object.keys(callers)
  const titles = new Map<string, string>()
  for (const sight of Object.values(callers)) {
    for (const { key, title } of 'records' in sight ? sight.records : []) {
      if (!titles.get(key)) titles.set(key, title ?? '')
    }
  }
  const keys = [...titles.keys()].sort((left, right) => left.localeCompare(right, 'en', { numeric: true }))
  const rows = keys.map((key) => [
    key,
    clip(titles.get(key) ?? ''),
    ...names.map((name) => cell(callers[name] as Sight, key)),
  ])
  const counts = names.map((name) => {
    const sight = callers[name] as Sight
    return chalk.bold(
      'records' in sight ? String(sight.records.length) : sight.refused.status === 401 ? 'sign in' : 'closed',
    )
  })
  return [
    drawTable(['', table, ...names], [...rows, ['', chalk.bold('sees in all'), ...counts]]),
    '',
    chalk.dim(
      'R read, U update, D delete, + own actions, then what lets the caller see it; · not visible, * some fields hidden',
    ),
  ].join('\n')
}

function cell(sight: Sight, key: string): string {
  const seen = 'records' in sight ? sight.records.find((record) => record.key === key) : undefined
  if (!seen) return chalk.dim('·')
  const { may, hidden, seenBy } = seen.access
  const letters = `R${may.update ? 'U' : '-'}${may.delete ? 'D' : '-'}${hidden.length > 0 ? '*' : ' '}`
  const own = Object.keys(may).filter((action) => may[action] && !['update', 'delete'].includes(action))
  const shown = [letters, ...own.map((action) => `+${action}`)].join(' ')
  return `${Object.values(may).includes(true) ? chalk.green(shown) : shown} ${seenBy.join(', ')}`
}

const clip = (text: string, most = 24): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text)
