import { type Shell } from './shell.js'
import chalk from 'chalk'
import type { Command } from 'commander'
import { gatherGrid, type TableGrid } from '../check/index.js'
import { loadConfig } from './config.js'
import { addCommand, type Options, show } from './program.js'
import { drawTable } from './table.js'

/** `pachter grid` */
export function addGrid(program: Command, shell: Shell): void {
  addCommand(program, 'grid [table]', 'who may do what, per table').action(
    async (table: string | undefined, options: Options) => {
      const { rules } = await loadConfig(options.config)
      show(shell, options, gatherGrid(rules, table), printGrid)
    },
  )
}

/** Writes the grid for a terminal. */
export function printGrid(grids: readonly TableGrid[]): string {
  return grids.map(printTable).join('\n\n\n')
}

function printTable({ table, actions, who, ties, bars, denies, stamps, checks, told }: TableGrid): string {
  const title = chalk.bold.underline(table)
  if (who.length === 0) return `${title}\n\nClosed: nobody may do anything.`
  const rows = who.map(({ who: name, may }) => [
    name,
    ...actions.map((action) => (may[action] ? may[action].join('\n') : chalk.dim('·'))),
  ])
  const notes = [
    ...Object.entries(ties).map(([name, text]) => `${chalk.bold(name)} means ${text}`),
    ...bars.map((text) => chalk.red(text)),
    ...denies.map(({ text, message }) => `${chalk.red(text)}: “${message}”`),
    ...Object.entries(stamps).map(
      ([action, values]) =>
        `On ${action} the server sets ${Object.entries(values)
          .map(([field, value]) => `${field} to ${value}`)
          .join(', ')}`,
    ),
    ...checks,
    ...(told === undefined ? [] : [chalk.red(told)]),
  ]
  return [title, '', drawTable(['who may', ...actions], rows), ...(notes.length > 0 ? ['', ...notes] : [])].join('\n')
}
