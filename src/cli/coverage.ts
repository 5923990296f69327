import chalk from 'chalk'
import type { Covered, Mutation, Survivor } from '../check/index.js'
import { drawTable } from './table.js'

/** Writes for a terminal what in the rules was not decisive both ways. */
export function printCoverage(covered: readonly Covered[]): string {
  const partly = covered.filter(({ held, failed }) => held === 0 || failed === 0)
  const both = covered.length - partly.length
  const amount = (count: number) => (count === 0 ? chalk.red('never') : String(count))
  const rows = [...partly]
    .sort((left, right) => left.held + left.failed - (right.held + right.failed))
    .map(({ table, kind, name, held, failed }) => [table, kind, name, amount(held), amount(failed)])
  return [
    `${both} of ${covered.length} things in the rules were decisive both ways: something stated hung on their holding, and something on their not holding.`,
    ...(rows.length > 0 ? ['', drawTable(['table', '', 'not both ways', 'held', 'did not'], rows)] : []),
  ].join('\n')
}

/** Writes for a terminal which changes to the rules nobody noticed. */
export function printMutation({ tried, noticed, survivors, accepted, idle }: Mutation): string {
  const colour = survivors.length === 0 ? chalk.green : chalk.red
  return [
    colour(
      `${noticed} of ${tried} changes to the rules were noticed, ${accepted.length} are accepted, ${survivors.length} were not noticed.`,
    ),
    ...survivors.flatMap(printSurvivor),
    ...idle.flatMap(({ change }) => ['', chalk.yellow(`Accepted, but noticed or no change to these rules: ${change}`)]),
  ].join('\n')
}

function printSurvivor({ change, suggestion }: Survivor): readonly string[] {
  return [
    '',
    `${chalk.red('✗')} ${chalk.bold(change)}`,
    ...suggestion.split('\n').map((line) => `    ${chalk.dim(line)}`),
  ]
}
