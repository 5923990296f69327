import { type Shell } from './shell.js'
import chalk from 'chalk'
import { type Command, Option } from 'commander'
import {
  type Change,
  chooseCallers,
  compareRulebooks,
  type Comparison,
  listKeys,
  type SomeRecords,
} from '../check/index.js'
import type { Rulebook } from '../rules/index.js'
import { type WholeConfig, loadWhole, UsageError, withWorkbench } from './config.js'
import { addCommand, collect, type Options, show } from './program.js'
import { loadRules, loadRulesAt } from './revision.js'
import { drawTable } from './table.js'

interface CompareCommand extends Options {
  readonly as: readonly string[]
  readonly since?: string
  readonly format: 'text' | 'markdown'
}

/** `pachter compare` */
export function addCompare(program: Command, shell: Shell): void {
  addCommand(
    program,
    'compare [before] [after]',
    'who gains and loses what between two rulebooks; those of the configuration where one is left out',
  )
    .option('--since <revision>', 'compares with the configuration as it was at this git revision')
    .option('--as <caller>', 'a caller; repeat for more, leave out for all', collect, [])
    .addOption(new Option('--format <format>', 'how to print').choices(['text', 'markdown']).default('text'))
    .action(async (before: string | undefined, after: string | undefined, options: CompareCommand) => {
      const config = await loadWhole(options.config)
      const [from, to] = await rulebooks(config, before, after, options)
      const callers = chooseCallers(Object.keys(config.callers), options.as)
      await withWorkbench(config, async (bench) => {
        const found = await compareRulebooks(bench.instead({ rules: from }), to, callers)
        show(shell, options, found, options.format === 'markdown' ? comparisonMarkdown : printComparison)
        if (found.widened) shell.fallShort()
      })
    })
}

async function rulebooks(
  config: WholeConfig,
  before: string | undefined,
  after: string | undefined,
  { since, config: file }: CompareCommand,
): Promise<readonly [Rulebook, Rulebook]> {
  if ((since === undefined) === (before === undefined)) {
    throw new UsageError('Name what to compare with: a file with rules, or a git revision with --since.')
  }
  if (since !== undefined) return [await loadRulesAt(since, file), config.rules]
  return [await loadRules(before as string), after === undefined ? config.rules : await loadRules(after)]
}

/** A change in words: `see`, `get by key`, `see email of`, `update title of`. */
const respect = ({ action, field }: Change): string => {
  const what = action === 'list' ? 'see' : action
  if (field !== undefined) return `${what} ${field} of`
  return action === 'get' ? 'get by key' : what
}

const amount = ({ count, keys }: SomeRecords, action: string): string => {
  if (count === 0) return ''
  if (action === 'create') return 'may'
  return count > keys.length ? `${count}: ${keys.slice(0, 10).join(', ')}, …` : listKeys(keys)
}

const HEAD = ['caller', 'may', 'table', 'gains', 'loses'] as const

const rowOf = (change: Change): readonly string[] => [
  change.caller,
  respect(change),
  change.table,
  amount(change.gained, change.action),
  amount(change.lost, change.action),
]

function summary({ tables, changes, widened }: Comparison): string {
  if (tables.length === 0) return 'The rules are the same.'
  const where = `The rules of ${tables.join(', ')} differ`
  if (changes.length === 0) {
    return `${where}, but on these records no caller sees or may do anything else. Checks, stamps and what a write must hold afterwards are not compared.`
  }
  const callers = new Set(changes.map(({ caller }) => caller)).size
  const [who, gain, lose] = callers === 1 ? ['1 caller', 'gains', 'loses'] : [`${callers} callers`, 'gain', 'lose']
  return `${where}: ${who} ${widened ? `${gain} something` : `${lose} something, and nobody gains anything`}.`
}

/** Writes a comparison for a terminal. */
export function printComparison(comparison: Comparison): string {
  const rows = comparison.changes.map((change) => {
    const [caller = '', may = '', table = '', gains = '', loses = ''] = rowOf(change)
    return [caller, may, table, chalk.yellow(gains), loses]
  })
  const colour = comparison.widened ? chalk.yellow : chalk.green
  return [...(rows.length > 0 ? [drawTable(HEAD, rows), ''] : []), colour(summary(comparison))].join('\n')
}

/** Writes a comparison as Markdown, for a pull request. */
export function comparisonMarkdown(comparison: Comparison): string {
  const cell = (text: string) => text.replaceAll('|', '\\|')
  const line = (cells: readonly string[]) => `| ${cells.map(cell).join(' | ')} |`
  const table = [line(HEAD), line(HEAD.map(() => '---')), ...comparison.changes.map((change) => line(rowOf(change)))]
  return [
    `### Who sees and may do what: ${comparison.widened ? '⚠ wider than before' : 'no wider than before'}`,
    '',
    summary(comparison),
    ...(comparison.changes.length > 0 ? ['', ...table] : []),
  ].join('\n')
}
