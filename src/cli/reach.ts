import chalk from 'chalk'
import type { ReachOfAll } from '../check/index.js'
import { clip, drawTable, fits, shorten } from './table.js'

/** So many callers are listed where nothing else is asked for. */
const LISTED = 25

/** The length of the longest bar. */
const LONGEST = 20

/** Writes how much each caller reaches for a terminal, first those who reach most that not everyone does. */
export function printReach({ everyone, open, reaches }: ReachOfAll, limit = LISTED): string {
  const tables = Object.keys(open)
  const differing = tables.filter((table) => reaches.some(({ counts }) => counts[table] !== open[table]))
  const same = tables.filter((table) => !differing.includes(table))
  const most = Math.max(0, ...reaches.slice(0, 1).map(({ own }) => own))
  const shown = reaches.slice(0, limit)
  const head = ['', `in ${everyone}`, ...differing, 'beyond', '']
  const rows = shown.map(({ key, title, counts, own }) => [
    shorten(key),
    clip(title ?? ''),
    ...differing.map((table) =>
      counts[table] === open[table] ? chalk.dim(String(counts[table])) : String(counts[table]),
    ),
    String(own),
    chalk.cyan('█'.repeat(most === 0 ? 0 : Math.round((own / most) * LONGEST))),
  ])
  const all = ['', chalk.bold('everyone'), ...differing.map((table) => chalk.bold(String(open[table]))), '', '']
  // Where tables do not fit beside one another: how much beyond, and most of it where.
  const narrow = shown.map(({ key, title, counts, own }) => {
    const beyond = differing
      .map((table) => ({ table, more: (counts[table] ?? 0) - (open[table] ?? 0) }))
      .filter(({ more }) => more > 0)
      .sort((left, right) => right.more - left.more)
      .map(({ table, more }) => `${table} ${more}`)
    return [shorten(key), clip(title ?? ''), String(own), beyond.join(', ')]
  })
  const middle = reaches[Math.floor(reaches.length / 2)]?.own ?? 0
  const left = reaches.length - shown.length
  return [
    fits(head, [all, ...rows])
      ? drawTable(head, [all, ...rows])
      : drawTable(['', `in ${everyone}`, 'beyond', 'of these'], narrow),
    '',
    ...(left > 0 ? [`and ${left} more who see less; show more with --limit`] : []),
    ...(same.length > 0
      ? [`The same for everyone: ${same.map((table) => `${table} ${open[table]}`).join(', ')}.`]
      : []),
    chalk.dim(
      `Half of the ${reaches.length} in ${everyone} see ${middle} records or fewer that not all see. Signed in, by no channel.`,
    ),
  ].join('\n')
}
