// Measures the guarded store against work by hand, as tables grow, and by the form it takes; writes docs/benchmarks.md and its
// pictures. PACHTER_BENCH says which of SQLite, PostgreSQL and MariaDB take part, PACHTER_SIZES how many entries there are; by
// hand is measured at 1,000,000 or, where there is no such size, at the largest.
import { drawGrowth, drawRatios, drawRegret } from './chart.js'
import { measureColdStart, measureHeap } from './cold.js'
import { coreSize, MOST } from './core-size.js'
import { openers } from './databases.js'
import { type Growth, measureGrowth, openSizes } from './growth.js'
import type { Result } from './measure.js'
import { measureDecide, measureMemory } from './memory.js'
import { type Case, measureRegret } from './regret.js'
import { type Single, writeReport } from './report.js'
import { explainForms, measureStore } from './store.js'

const names = (process.env['PACHTER_BENCH'] ?? Object.keys(openers).join()).split(',')
const sizes = (process.env['PACHTER_SIZES'] ?? '10000,100000,1000000').split(',').map(Number)
/** One database goes further. */
const LARGEST: Readonly<Record<string, number>> = process.env['PACHTER_SIZES'] ? {} : { SQLite: 10_000_000 }
const entries = sizes.includes(1_000_000) ? 1_000_000 : Math.max(...sizes)

const results: Result[] = [...(await measureMemory())]
const growths: Growth[] = []
const cases: Case[] = []
const plans: Record<string, Readonly<Record<string, string>>> = {}
// Before there is a heap to be kept clean.
const decided = await measureDecide()
for (const name of names) {
  const benches = await openSizes(name, [...sizes, ...(LARGEST[name] ? [LARGEST[name]] : [])])
  growths.push(...(await measureGrowth(name, benches)))
  const bench = benches.get(entries)
  if (!bench) throw new Error(`There are no ${entries} entries.`)
  results.push(...(await measureStore(bench, (done) => console.error(done))))
  plans[name] = await explainForms(bench)
  for (const each of benches.values()) await each.close()
  console.error(`${name}: drawn cases`)
  const drawn = await (openers[name] as (typeof openers)[string])()
  cases.push(...(await measureRegret(drawn)))
  await drawn.close()
}

const heap = await measureHeap()
const cold = measureColdStart()
const [size, whole] = [await coreSize(['decide', 'predicate']), await coreSize(['decide', 'predicate', 'readRulebook'])]
const singles: readonly Single[] = [
  {
    task: 'cold start: import the core, read Korenveld’s rulebook, first verdict',
    figure: `${cold.toFixed(1)} ms`,
    target: '15 ms',
    met: cold < 15,
  },
  ...decided.map(({ task, microseconds }) => ({
    task,
    figure: `${microseconds.toFixed(1)} µs`,
    target: '3 µs',
    met: microseconds <= 3,
  })),
  {
    task: 'decide and predicate for a browser, minified and gzipped',
    figure: `${size.toFixed(1)} kB`,
    target: `${MOST} kB`,
    met: size <= MOST,
  },
  { task: 'the same with readRulebook', figure: `${whole.toFixed(1)} kB`, target: '10 kB', met: whole <= 10 },
  {
    task: 'heap before and after 1,000,000 guarded calls',
    figure: `${heap.before.toFixed(1)} MB, ${heap.after.toFixed(1)} MB`,
    target: 'flat',
    met: heap.after < heap.before * 1.1 + 1,
  },
]
console.log(writeReport({ entries, results, singles, growths, cases, plans }))
await drawRatios(results.filter(({ target }) => target > 0))
await drawGrowth(growths)
await drawRegret(cases)
