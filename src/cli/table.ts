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
  const natural = naturalWidths(head, rows)
  const table = new Table({
    head: head.map((title) => chalk.bold(title)),
    chars: PLAIN,
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': 2 },
    colWidths: fit(natural, wordWidths(head, rows), width),
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

const naturalWidths = (head: readonly string[], rows: readonly (readonly string[])[]): readonly number[] =>
  head.map((title, at) => most([title, ...rows.map((row) => row[at] ?? '')].map(widest)) + 2)

/** How wide each column is where no word is broken. */
const wordWidths = (head: readonly string[], rows: readonly (readonly string[])[]): readonly number[] =>
  head.map((title, at) => most([title, ...rows.flatMap((row) => (row[at] ?? '').split(/\s+/))].map(widest)) + 2)

/** Whether a table fits the terminal so that it is read well: no word is broken, and no cell takes more than some two lines. */
export function fits(head: readonly string[], rows: readonly (readonly string[])[], width = terminalWidth()): boolean {
  const words = wordWidths(head, rows)
  const least = naturalWidths(head, rows).map((natural, at) => Math.max(words[at] ?? 0, natural / 2))
  return least.reduce((sum, each) => sum + each, 0) <= width
}

/** What would be a row of a table that is too wide: cells below one another, those that are alike together. */
export function stacked(title: string, names: readonly string[], cells: readonly string[]): string {
  const alike = new Map<string, string[]>()
  for (const [at, cell] of cells.entries()) alike.set(cell, [...(alike.get(cell) ?? []), names[at] ?? ''])
  // What is not there comes last.
  const lines = [...alike].sort(([left], [right]) => Number(isNothing(left)) - Number(isNothing(right)))
  const width = Math.min(36, most(lines.map(([cell]) => widest(cell))))
  const padded = (cell: string) => cell + ' '.repeat(Math.max(0, width - widest(cell)))
  return [chalk.bold(title), ...lines.map(([cell, own]) => `  ${padded(cell)}  ${own.join(', ')}`)].join('\n')
}

const isNothing = (cell: string): boolean => cell.replaceAll(ANSI, '') === '·'

/** Stacked rows, with room between them. */
export const stack = (rows: readonly string[]): string => rows.join('\n\n')

const UUID = /\b([0-9a-f]{8})-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b/gi

/** Text with uuids cut to their beginning, but for those that begin alike: nobody reads the others to their end. */
export function shorten(text: string): string {
  const alike = new Map<string, string>()
  for (const [whole, beginning = ''] of text.matchAll(UUID))
    alike.set(beginning, (alike.get(beginning) ?? whole) === whole ? whole : '')
  return text.replaceAll(UUID, (whole, beginning: string) => (alike.get(beginning) === whole ? `${beginning}…` : whole))
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

/** Takes width away from the widest columns until all fit, as far as their words leave any; then also where words break. */
function fit(natural: readonly number[], words: readonly number[], width: number): number[] {
  const least = words.map((each) => Math.min(each, NARROWEST))
  return narrowed(narrowed(natural, words, width), least, width)
}

function narrowed(natural: readonly number[], least: readonly number[], width: number): number[] {
  const widths = [...natural]
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
