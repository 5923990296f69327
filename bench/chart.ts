// Draws the ratios of the measurements, ours against by hand.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { chromium } from 'playwright-core'
import { browserOptions } from '../test/support/browser.js'
import type { Result } from './measure.js'

const SIZE = { width: 1280, height: 960 }

/** Ratios beyond this are cut off in the drawing; the table has them. */
const MOST = 3

/** One bar for each result, with its target as a mark; writes docs/screenshots/benchmarks.png. */
export async function drawChart(results: readonly Result[]): Promise<void> {
  const library = readFileSync(
    createRequire(import.meta.url)
      .resolve('chart.js')
      .replace(/chart\.cjs$/, 'chart.umd.js'),
  )
  const ratios = results.map(({ ours, reference }) => ours / reference)
  const config = {
    type: 'bar',
    data: {
      labels: results.map(({ group, task }) => `${group}: ${task}`),
      datasets: [
        {
          label: 'ours, as times the best by hand',
          data: ratios.map((ratio) => Math.min(MOST, ratio)),
          backgroundColor: results.map(({ target }, at) => ((ratios[at] ?? 0) <= target ? '#5b8a3c' : '#c58b2a')),
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
      plugins: { title: { display: true, text: 'Time taken, where 1 is the best by hand (green: target met)' } },
      scales: { x: { min: 0, max: MOST }, y: { ticks: { autoSkip: false, font: { size: 10 } } } },
    },
  }
  const browser = await chromium.launch(browserOptions())
  const page = await browser.newPage({ viewport: SIZE })
  await page.setContent(`<body style="margin:12px;height:930px"><canvas id="chart"></canvas></body>`)
  await page.addScriptTag({ content: String(library) })
  await page.evaluate(`new Chart(document.getElementById('chart'), ${JSON.stringify(config)})`)
  await page.screenshot({ path: new URL('../docs/screenshots/benchmarks.png', import.meta.url).pathname })
  await browser.close()
}
