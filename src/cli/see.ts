import { type Shell } from './shell.js'
import chalk from 'chalk'
import { type Command, InvalidArgumentError } from 'commander'
import {
  chooseCallers,
  everyoneIn,
  reachOfAll,
  seeCounts,
  type SeenCounts,
  type SeenTable,
  seenCount,
  seenText,
  seeTable,
  type Sight,
} from '../check/index.js'
import type { Access } from '../decide/index.js'
import { tableOf } from '../model/index.js'
import { type WholeConfig, loadWhole, UsageError, withWorkbench } from './config.js'
import { withProgress } from './progress.js'
import { addCommand, collect, type Options, show } from './program.js'
import { printReach } from './reach.js'
import { clip, drawTable, fits, stack, stacked } from './table.js'
import { readWhere } from './where.js'

interface SeeCommand extends Options {
  readonly as: readonly string[]
  readonly differ: boolean
  readonly hidden: boolean
  readonly reach: boolean
  readonly unguarded: boolean
  readonly where: readonly string[]
  readonly sort: readonly string[]
  readonly limit?: number
  readonly offset?: number
}

/** `pachter see` */
export function addSee(program: Command, shell: Shell): void {
  addCommand(program, 'see [table]', 'what callers see and may do, side by side; without a table, how much of each')
    .option('--as <caller>', 'a caller to look through; repeat for more, leave out for all', collect, [])
    .option('--differ', 'only records that the callers do not all see alike', false)
    .option('--hidden', 'also records that none of the callers sees', false)
    .option('--where <filter>', 'only records with field=value, or with !=, < or >; repeat for more', collect, [])
    .option('--sort <field>', 'a field to sort by, "title" or "title descending"; repeat for more', collect, [])
    .option('--limit <number>', 'at most this many records', wholeNumber)
    .option('--offset <number>', 'skips this many records first', wholeNumber)
    .option('--reach', 'for everyone in the table of callers, how many records they see', false)
    .option('--unguarded', 'beside it, what anybody would get with no rules at all', false)
    .action(async (table: string | undefined, options: SeeCommand) => {
      const config = await loadWhole(options.config)
      const callers = chooseCallers(Object.keys(config.callers), options.as)
      if (table !== undefined) tableOf(config.rules.model, table)
      assertFits(table, options)
      if (options.reach) return seeReach(shell, config, table, options)
      await withWorkbench(config, async (bench) => {
        if (table === undefined) return show(shell, options, await seeCounts(bench, callers, options), printCounts)
        const { differ, hidden, sort, limit, offset } = options
        const where = await readWhere(bench, table, options.where)
        const asked = { differ, hidden, orderBy: sort, ...(where && { where }), ...kept({ limit, offset }) }
        show(shell, options, await seeTable(bench, table, callers, asked), printSeen)
      })
    })
}

const kept = <T extends object>(options: T): { [K in keyof T]?: NonNullable<T[K]> } =>
  Object.fromEntries(Object.entries(options).filter(([, value]) => value !== undefined)) as never

function wholeNumber(written: string): number {
  if (/^\d+$/.test(written)) return Number(written)
  throw new InvalidArgumentError('It has to be a whole number.')
}

/** Options that would be without effect are a mistake of whoever typed them. */
function assertFits(table: string | undefined, options: SeeCommand): void {
  const { as, differ, hidden, where, sort, offset, limit, reach, unguarded } = options
  const ofRows = differ || hidden || where.length > 0 || sort.length > 0 || offset !== undefined
  if (reach && (ofRows || as.length > 0))
    throw new UsageError('--reach is about all callers and records; it goes with --limit only.')
  if (unguarded && (table !== undefined || reach)) {
    throw new UsageError('--unguarded counts the records of all tables: leave out the table, or use --hidden with it.')
  }
  if (table === undefined && (ofRows || (limit !== undefined && !reach))) {
    throw new UsageError('Name a table: these options are about its records.')
  }
}

async function seeReach(
  shell: Shell,
  config: WholeConfig,
  table: string | undefined,
  options: SeeCommand,
): Promise<void> {
  const everyone = everyoneIn(config.rules, config.everyone)
  const tables = table === undefined ? Object.keys(config.rules.model.tables) : [table]
  await withWorkbench(config, async (bench) => {
    const found = await withProgress('tables', tables.length, (onProgress) =>
      reachOfAll(bench, everyone, tables, onProgress),
    )
    show(shell, options, found, (data) => printReach(data, options.limit))
  })
}

/** Writes the counts for a terminal. */
export function printCounts({ callers, tables, unguarded }: SeenCounts): string {
  const rows = Object.entries(tables).map(([table, counts]) => [
    table,
    ...callers.map((name) => {
      const seen = counts[name] as Sight
      if ('count' in seen) return seen.count === 0 && !seen.byKey ? chalk.dim('0') : seenText(seen)
      return chalk.dim(refusedText(seen))
    }),
    ...(unguarded ? [chalk.red(String(unguarded[table]))] : []),
  ])
  const columns = [...callers, ...(unguarded ? ['no rules'] : [])]
  const head = ['records seen', ...columns]
  const all = unguarded ? [...rows, sumOf(callers, tables, unguarded)] : rows
  return [
    fits(head, all)
      ? drawTable(head, all)
      : stack(all.map(([table = '', ...counts]) => stacked(table, columns, counts))),
    '',
    chalk.dim('sign in: refused (401) until signed in; closed: refused (403) without asking the database'),
  ].join('\n')
}

/** All that each caller sees, and which part that is of what is there. */
function sumOf(
  callers: readonly string[],
  tables: SeenCounts['tables'],
  unguarded: NonNullable<SeenCounts['unguarded']>,
): readonly string[] {
  const sum = (counts: readonly number[]) => counts.reduce((left, right) => left + right, 0)
  const whole = sum(Object.values(unguarded))
  const sums = callers.map((name) => sum(Object.values(tables).map((counts) => seenCount(counts[name] as Sight))))
  const part = (count: number) => `${count}\n${whole === 0 ? 0 : Math.round((100 * count) / whole)} %`
  return ['in all', ...sums.map(part), chalk.red(part(whole))].map((text) => chalk.bold(text))
}

const refusedText = ({ status }: { readonly status: number }): string => (status === 401 ? 'sign in' : 'closed')

/** Writes the callers' views of a table side by side for a terminal; where there is no room for that, one below the other. */
export function printSeen({ table, callers, rows, more }: SeenTable): string {
  const names = Object.keys(callers)
  const masks = new Map<string, number>()
  const drawn = rows.map(({ key, short = key, title, access, byKey = [] }) => {
    const isSeen = Object.values(access).some((each) => each !== null)
    const head = [short, clip(title ?? '', 32)].map((text) => (isSeen ? text : chalk.dim(text)))
    return [...head, ...names.map((name) => cell(access[name] ?? null, byKey.includes(name) ? 'K' : 'R', masks))]
  })
  const counts = names.map((name) => {
    const sight = callers[name] as Sight
    return chalk.bold('count' in sight ? seenText(sight) : refusedText(sight))
  })
  const head = ['', table, ...names]
  const all = [...drawn, ['', chalk.bold('sees in all'), ...counts]]
  const notes = [...masks].map(([fields, number]) => `*${number} without ${fields}`)
  return [
    fits(head, all)
      ? drawTable(head, all)
      : stack(all.map(([key = '', title = '', ...cells]) => stacked(`${key} ${title}`.trim(), names, cells))),
    '',
    ...(more ? [`There are more: go on with --offset, or show more at once with --limit.`] : []),
    ...notes,
    chalk.dim(
      `R read, ${rows.some(({ byKey }) => byKey) ? 'K read by its key alone, ' : ''}U update, D delete, + own actions, then what lets the caller see it; · not visible`,
    ),
  ].join('\n')
}

/** What a caller may do to a record; which fields are hidden is numbered, and listed below. */
function cell(access: Access | null, read: 'R' | 'K', masks: Map<string, number>): string {
  if (!access) return chalk.dim('·')
  const { may, hidden, seenBy } = access
  const fields = hidden.join(', ')
  if (fields !== '' && !masks.has(fields)) masks.set(fields, masks.size + 1)
  const letters = `${read}${may.update ? 'U' : '-'}${may.delete ? 'D' : '-'}${fields === '' ? '' : `*${masks.get(fields)}`}`
  const own = Object.keys(may).filter((action) => may[action] && !['update', 'delete'].includes(action))
  const shown = [letters.padEnd(4), ...own.map((action) => `+${action}`)].join(' ').trimEnd()
  return `${Object.values(may).includes(true) ? chalk.green(shown.padEnd(4)) : shown.padEnd(4)} ${seenBy.join(', ')}`
}
