// Measures the guarded store against work by hand, and writes docs/benchmarks.md and its chart.
// PACHTER_ENTRIES sets how many entries there are, PACHTER_BENCH which of SQLite, PostgreSQL and MariaDB take part.
import { writeFileSync } from 'node:fs'
import { cpus, totalmem } from 'node:os'
import Table from 'cli-table3'
import { drawChart } from './chart.js'
import { measureColdStart, measureHeap } from './cold.js'
import { coreSize } from './core-size.js'
import { openers } from './databases.js'
import type { Result } from './measure.js'
import { measureMemory } from './memory.js'
import { explainForms, measureStore } from './store.js'
import { generate } from './world.js'

const entries = Number(process.env['PACHTER_ENTRIES'] ?? 1_000_000)
const names = (process.env['PACHTER_BENCH'] ?? Object.keys(openers).join()).split(',')

const results: Result[] = [...(await measureMemory())]
const plans: Record<string, Readonly<Record<string, string>>> = {}
for (const name of names) {
  const open = openers[name]
  if (!open) throw new Error(`There is no database ${name}; there is ${Object.keys(openers).join(', ')}.`)
  console.error(`${name}: generating ${entries.toLocaleString('en')} entries…`)
  const bench = await open()
  await generate(bench.store, entries)
  results.push(...(await measureStore(bench, (done) => console.error(done))))
  plans[name] = await explainForms(bench)
  await bench.close()
}
const heap = await measureHeap()
const cold = measureColdStart()
const sizes = [await coreSize(['decide', 'predicate']), await coreSize(['decide', 'predicate', 'readRulebook'])]

const head = ['where', 'task', 'ours', 'by hand', 'ratio', 'target', '', 'best by hand']
const ratio = ({ ours, reference, target }: Result) => (target < 0 ? reference / ours : ours / reference)
const meets = (result: Result) => (result.target < 0 ? ratio(result) >= -result.target : ratio(result) <= result.target)
const rows = results.map((result) => [
  result.group,
  result.task,
  `${show(result.ours)} ${result.unit}`,
  `${show(result.reference)} ${result.unit}`,
  result.target < 0 ? `${ratio(result).toFixed(0)} × faster` : `${ratio(result).toFixed(2)} ×`,
  result.target < 0 ? `${-result.target} × faster` : `${result.target} ×`,
  meets(result) ? 'met' : 'missed',
  result.by ?? '',
])
const single = [
  [
    'cold start: import the core, read Korenveld’s rulebook, first verdict',
    `${cold.toFixed(1)} ms`,
    '15 ms',
    cold < 15,
  ],
  [
    'decide and predicate for a browser, minified and gzipped',
    `${sizes[0]?.toFixed(1)} kB`,
    '15 kB',
    (sizes[0] ?? 99) <= 14,
  ],
  ['the same with readRulebook', `${sizes[1]?.toFixed(1)} kB`, '10 kB', (sizes[1] ?? 99) <= 10],
  [
    'heap before and after 1,000,000 guarded calls',
    `${heap.before.toFixed(1)} MB, ${heap.after.toFixed(1)} MB`,
    'flat',
    heap.after < heap.before * 1.1 + 1,
  ],
].map(([task, value, target, met]) => [task, value, target, met ? 'met' : 'missed'] as string[])

const table = new Table({ head, style: { head: [], border: [] } })
table.push(...rows)
console.log(table.toString())
for (const line of single) console.log(line.join(' | '))

const cells = (line: readonly string[]) => `| ${line.join(' | ')} |`
const machine = `${cpus().length} × ${cpus()[0]?.model.trim()}, ${Math.round(totalmem() / 2 ** 30)} GB, Node ${process.version}, ${entries.toLocaleString('en')} entries`
const written = [
  '# Benchmarks',
  '',
  'Written by `npm run bench`; what the figures mean, and what was tried, stands in [performance.md](performance.md).',
  '',
  `Machine: ${machine}. Medians of runs that take turns in one process; shared and noisy, so look at the ratios.`,
  '',
  '![Ours against the best by hand](screenshots/benchmarks.png)',
  '',
  cells(head),
  cells(head.map(() => '---')),
  ...rows.map(cells),
  '',
  cells(['task', 'figure', 'target', '']),
  cells(['---', '---', '---', '---']),
  ...single.map(cells),
  '',
  '## How each form finds the records',
  '',
  'The first 50 of a caller who reaches 100 of the entries, as the database’s own EXPLAIN tells it. For MariaDB: kind, table, access, index, rows, remarks.',
  ...Object.entries(plans).flatMap(([name, forms]) =>
    Object.entries(forms).flatMap(([form, plan]) => ['', `### ${name}, ${form}`, '', '```', plan, '```']),
  ),
  '',
].join('\n')
writeFileSync(new URL('../docs/benchmarks.md', import.meta.url), written)
await drawChart(results.filter(({ target }) => target > 0))

function show(value: number): string {
  return value >= 100 ? value.toFixed(0) : value.toPrecision(3)
}
