import chalk from 'chalk'
import Table from 'cli-table3'

/** Fewer characters than this make a column unreadable. */
const NARROWEST = 8

/**
 * Draws rows under a head, with a rule below the head only, no wider than the terminal.
 *
 * @param head the column titles
 * @param rows the cells; a line feed in a cell starts a new line there
 * @param width the widest it may be, in characters
 */
export function drawTable(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  width = terminalWidth(),
): string {
  const natural = head.map((title, at) => most([title, ...rows.map((row) => row[at] ?? '')].map(widest)) + 2)
  const table = new Table({
    head: head.map((title) => chalk.bold(title)),
    chars: PLAIN,
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 2 },
    colWidths: fit(natural, head, width),
    wordWrap: true,
  })
  for (const row of rows) table.push([...row])
  const [first = '', ...lines] = table
    .toString()
    .split('\n')
    .map((line) => line.trimEnd())
  const rule = '─'.repeat(most([first, ...lines].map(widest)))
  return [first, chalk.dim(rule), ...lines].join('\n')
}

const PLAIN = Object.fromEntries(
  ['top', 'bottom', 'left', 'right', 'mid', 'middle']
    .flatMap((side) => [side, `${side}-mid`, `${side}-left`, `${side}-right`])
    .concat('mid-mid')
    .map((name) => [name, '']),
) as Record<string, string>

/** The width of the terminal, or a usual one where the output is no terminal. */
export const terminalWidth = (): number => process.stdout.columns || 140

// eslint-disable-next-line no-control-regex
const ANSI = /\u001b\[\d+m/g

const widest = (text: string): number => most(text.split('\n').map((line) => [...line.replaceAll(ANSI, '')].length))

/** The largest of however many numbers. */
const most = (numbers: readonly number[]): number => numbers.reduce((found, each) => Math.max(found, each), 0)

/** Takes width away from the widest columns until all fit, as far as their titles leave any. */
function fit(natural: readonly number[], head: readonly string[], width: number): number[] {
  const widths = [...natural]
  const least = head.map((title) => Math.max(NARROWEST, title.length + 2))
  const total = () => widths.reduce((sum, each) => sum + each, 0)
  while (total() > width) {
    const spare = widths.map((each, at) => (each > (least[at] ?? 0) ? each : 0))
    const broadest = spare.indexOf(Math.max(...spare))
    if (spare[broadest] === 0) break
    widths[broadest] = (widths[broadest] ?? 0) - 1
  }
  return widths
}

/** A text cut so that it fits a column. */
export const clip = (text: string, most = 24): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text)
