// Draws the measurements.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { chromium } from 'playwright-core'
import { browserOptions } from '../test/support/browser.js'
import type { Growth } from './growth.js'
import type { Result } from './measure.js'
import { type Case, TARGET } from './regret.js'

const SIZE = { width: 1280, height: 960 }

/** Ratios beyond this are cut off in the drawing; the table has them. */
const MOST = 3

const COLOURS = ['#5b8a3c', '#c58b2a', '#3c6e8a', '#8a3c5b']

/** Draws charts one below the other as docs/screenshots/NAME.png. */
async function draw(name: string, configs: readonly object[], columns = 1): Promise<void> {
  const library = readFileSync(
    createRequire(import.meta.url)
      .resolve('chart.js')
      .replace(/chart\.cjs$/, 'chart.umd.js'),
  )
  const browser = await chromium.launch(browserOptions())
  const page = await browser.newPage({ viewport: SIZE })
  const canvases = configs.map(
    (_, at) => `<div style="position:relative;min-height:0;min-width:0"><canvas id="chart${at}"></canvas></div>`,
  )
  const grid = `display:grid;grid-template-columns:repeat(${columns},1fr);grid-auto-rows:1fr;gap:12px;margin:12px;height:930px`
  await page.setContent(`<body style="${grid}">${canvases.join('')}</body>`)
  await page.addScriptTag({ content: String(library) })
  for (const [at, config] of configs.entries()) {
    await page.evaluate(`new Chart(document.getElementById('chart${at}'), ${JSON.stringify(config)})`)
  }
  await page.screenshot({ path: new URL(`../docs/screenshots/${name}.png`, import.meta.url).pathname })
  await browser.close()
}

const titled = (text: string) => ({ title: { display: true, text } })

/** One bar for each result, with its target as a mark. */
export async function drawRatios(results: readonly Result[]): Promise<void> {
  const ratios = results.map(({ ours, reference }) => ours / reference)
  await draw('benchmarks', [
    {
      type: 'bar',
      data: {
        labels: results.map(({ group, task }) => `${group}: ${task}`),
        datasets: [
          {
            label: 'ours, as times the best by hand',
            data: ratios.map((ratio) => Math.min(MOST, ratio)),
            backgroundColor: results.map(({ target }, at) => COLOURS[(ratios[at] ?? 0) <= target ? 0 : 1]),
          },
          {
            type: 'scatter',
            label: 'target',
            data: results.map(({ target }, at) => ({ x: target, y: at })),
            pointStyle: 'line',
            rotation: 90,
            radius: 6,
            borderColor: '#333',
          },
        ],
      },
      options: {
        animation: false,
        indexAxis: 'y',
        maintainAspectRatio: false,
        plugins: titled('Time taken, where 1 is the best by hand (green: target met)'),
        scales: { x: { min: 0, max: MOST }, y: { ticks: { autoSkip: false, font: { size: 10 } } } },
      },
    },
  ])
}

const sizesOf = (growths: readonly Pick<Growth, 'times'>[]): readonly number[] =>
  Object.keys(growths[0]?.times ?? {})
    .map(Number)
    .sort((left, right) => left - right)

/** One chart for each database: what each task takes by the size of the table. */
export async function drawGrowth(growths: readonly Growth[]): Promise<void> {
  const groups = [...new Set(growths.map(({ group }) => group))]
  const tasks = [...new Set(growths.map(({ task }) => task))]
  await draw(
    'growth',
    groups.map((name) => ({
      type: 'line',
      data: {
        labels: sizesOf(growths.filter(({ group }) => group === name)).map((size) => size.toLocaleString('en')),
        datasets: growths
          .filter(({ group }) => group === name)
          .map(({ task, times }) => ({
            label: task,
            data: sizesOf([{ times }]).map((size) => times[size]),
            borderColor: `hsl(${Math.round((tasks.indexOf(task) * 360) / tasks.length)} 55% 42%)`,
            borderWidth: 1.5,
            pointRadius: 2,
          })),
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        plugins: {
          ...titled(`${name}: milliseconds by the number of records, at the same reach`),
          legend: { position: 'right', labels: { boxWidth: 9, padding: 3, font: { size: 9 } } },
        },
        scales: { y: { type: 'logarithmic' } },
      },
    })),
  )
}

/** How many times as long as the best form the form taken needs, case by case, the worst last. */
export async function drawRegret(cases: readonly Case[]): Promise<void> {
  const groups = [...new Set(cases.map(({ group }) => group))]
  await draw('regret', [
    {
      type: 'line',
      data: {
        datasets: [
          ...groups.map((name, at) => ({
            label: name,
            data: cases
              .filter(({ group }) => group === name)
              .map(({ regret }) => regret)
              .sort((left, right) => left - right)
              .map((regret, place, all) => ({ x: (100 * (place + 1)) / all.length, y: regret })),
            borderColor: COLOURS[at],
            pointRadius: 1.5,
          })),
          {
            label: 'target',
            data: [0, 100].map((x) => ({ x, y: TARGET })),
            borderColor: '#333',
            borderDash: [6, 4],
            borderWidth: 1,
            pointRadius: 0,
          },
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        plugins: titled('The form taken, as times the best form (under 1 ms apart counts as 1)'),
        scales: {
          x: { type: 'linear', min: 80, max: 100, title: { display: true, text: '% of the drawn cases' } },
          y: { type: 'logarithmic', min: 1 },
        },
      },
    },
  ])
}
