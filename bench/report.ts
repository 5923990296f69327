// Writes docs/benchmarks.md.
import { writeFileSync } from 'node:fs'
import { cpus, totalmem } from 'node:os'
import { type Growth, growthOf, TARGET as GROWS } from './growth.js'
import type { Result } from './measure.js'
import { type Case, TARGET as REGRET } from './regret.js'

/** One figure on its own, and whether it is what it should be. */
export interface Single {
  readonly task: string
  readonly figure: string
  readonly target: string
  readonly met: boolean
}

/** Everything that was measured. */
export interface Report {
  readonly entries: number
  readonly results: readonly Result[]
  readonly singles: readonly Single[]
  readonly growths: readonly Growth[]
  readonly cases: readonly Case[]
  /** The database's own account of each form, by database. */
  readonly plans: Readonly<Record<string, Readonly<Record<string, string>>>>
}

const said = (met: boolean): string => (met ? 'met' : 'missed')
const show = (value: number): string => (value >= 100 ? value.toFixed(0) : value.toPrecision(3))
const ratio = ({ ours, reference, target }: Result) => (target < 0 ? reference / ours : ours / reference)
const meets = (result: Result) => (result.target < 0 ? ratio(result) >= -result.target : ratio(result) <= result.target)

const cells = (line: readonly string[]) => `| ${line.join(' | ')} |`
const table = (head: readonly string[], rows: readonly (readonly string[])[]): readonly string[] => [
  '',
  cells(head),
  cells(head.map(() => '---')),
  ...rows.map(cells),
]

/** Writes the page, and returns it. */
export function writeReport({ entries, results, singles, growths, cases, plans }: Report): string {
  const machine = `${cpus().length} × ${cpus()[0]?.model.trim()}, ${Math.round(totalmem() / 2 ** 30)} GB, Node ${process.version}`
  const page = [
    '# Benchmarks',
    '',
    'Written by `npm run bench`; what the figures mean, and what was tried, stands in [performance.md](performance.md).',
    '',
    `Machine: ${machine}. Medians of runs that take turns in one process; shared and noisy, so look at the ratios.`,
    '',
    `## Against work by hand, ${entries.toLocaleString('en')} entries`,
    '',
    '![Ours against the best by hand](screenshots/benchmarks.png)',
    ...table(['where', 'task', 'ours', 'by hand', 'ratio', 'target', '', 'best by hand'], results.map(rowOf)),
    ...table(
      ['task', 'figure', 'target', ''],
      singles.map(({ task, figure, target, met }) => [task, figure, target, said(met)]),
    ),
    '',
    '## As the table grows',
    '',
    `Callers who reach as much at every size, in milliseconds. From the smallest to the largest at most ${GROWS} ×.`,
    '',
    '![What tasks cost as the table grows](screenshots/growth.png)',
    ...[...new Set(growths.map(({ group }) => group))].flatMap((name) =>
      growthTable(growths.filter(({ group }) => group === name)),
    ),
    '',
    '## The form taken against the best form',
    '',
    `Drawn tables of 500 to 150,000 records, of drawn spread, ties and indexes, and drawn questions: callers who reach none to
most, pages in the order of the key or of a field with or without an index, counts, conditions of the request's own. Each is
run in all three forms; the form taken may need ${REGRET} × what the best needs, or 1 ms more.`,
    '',
    '![The form taken against the best form](screenshots/regret.png)',
    ...table(
      [
        'where',
        'cases',
        `within ${REGRET} ×`,
        'in all, against always the best',
        'always gather',
        'always walk',
        'always scan',
        'worst',
      ],
      regretRows(cases),
    ),
    '',
    'Those beyond:',
    ...table(
      ['where', 'case', 'taken', 'best', 'times'],
      cases
        .filter(({ regret }) => regret > REGRET)
        .sort((left, right) => right.regret - left.regret)
        .map(({ group, about, taken, best, times, regret }) => [
          group,
          about,
          `${taken}, ${show(times[taken] ?? 0)} ms`,
          `${best}, ${show(times[best] ?? 0)} ms`,
          regret.toFixed(1),
        ]),
    ),
    '',
    '## How each form finds the records',
    '',
    'The first 50 of a caller who reaches 100 of the entries, as the database’s own EXPLAIN tells it. For MariaDB: kind, table, access, index, rows, remarks.',
    ...Object.entries(plans).flatMap(([name, forms]) =>
      Object.entries(forms).flatMap(([form, plan]) => ['', `### ${name}, ${form}`, '', '```', plan, '```']),
    ),
    '',
  ].join('\n')
  writeFileSync(new URL('../docs/benchmarks.md', import.meta.url), page)
  return page
}

const rowOf = (result: Result): readonly string[] => [
  result.group,
  result.task,
  `${show(result.ours)} ${result.unit}`,
  `${show(result.reference)} ${result.unit}`,
  result.target < 0 ? `${ratio(result).toFixed(0)} × faster` : `${ratio(result).toFixed(2)} ×`,
  result.target < 0 ? `${-result.target} × faster` : `${result.target} ×`,
  said(meets(result)),
  result.by ?? '',
]

function growthTable(growths: readonly Growth[]): readonly string[] {
  const sizes = Object.keys(growths[0]?.times ?? {})
    .map(Number)
    .sort((left, right) => left - right)
  return table(
    ['where', 'task', ...sizes.map((size) => size.toLocaleString('en')), 'growth', ''],
    growths.map((growth) => [
      growth.group,
      growth.task,
      ...sizes.map((size) => show(growth.times[size] ?? 0)),
      `${growthOf(growth).toFixed(2)} ×`,
      said(growthOf(growth) <= GROWS),
    ]),
  )
}

function regretRows(cases: readonly Case[]): readonly (readonly string[])[] {
  const sum = (all: readonly Case[], time: (each: Case) => number) => all.reduce((whole, each) => whole + time(each), 0)
  return [...new Set(cases.map(({ group }) => group))].map((name) => {
    const own = cases.filter(({ group }) => group === name)
    const least = sum(own, ({ times, best }) => times[best] ?? 0)
    const against = (time: (each: Case) => number) => `${(sum(own, time) / least).toFixed(2)} ×`
    return [
      name,
      String(own.length),
      `${own.filter(({ regret }) => regret <= REGRET).length}`,
      against(({ times, taken }) => times[taken] ?? 0),
      ...['gather', 'walk', 'scan'].map((form) => against(({ times }) => times[form] ?? 0)),
      `${Math.max(...own.map(({ regret }) => regret)).toFixed(1)} ×`,
    ]
  })
}
