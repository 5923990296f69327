// Draws docs/screenshots from the demo data: what the commands print, and the page. Needs Chromium.
import { spawnSync } from 'node:child_process'
import { mkdirSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import Convert from 'ansi-to-html'
import { chromium } from 'playwright-core'
import { tsImport } from 'tsx/esm/api'
import { prepare, run } from './setup.js'

const folder = fileURLToPath(new URL('../docs/screenshots/', import.meta.url))
const demo = fileURLToPath(new URL('../examples/allotment/', import.meta.url))
const SIZE = { width: 1280, height: 800 }
const COMMANDS = {
  grid: ['grid', 'entries'],
  see: ['see', 'entries', '--as', 'nobody', '--as', 'ana', '--as', 'ben', '--as', 'carla', '--as', 'eva'],
  counts: ['see'],
  why: ['why', 'update', 'entries', '7', '--as', 'ben'],
}

const { browserOptions } = await tsImport('../test/support/browser.ts', import.meta.url)
const { serve } = await tsImport('../examples/allotment/serve.ts', import.meta.url)

prepare()
run('npx', ['vite', 'build', '--config', `${demo}vite.config.ts`, '--logLevel', 'error'])
mkdirSync(folder, { recursive: true })
const browser = await chromium.launch(browserOptions())
const page = await browser.newPage({ viewport: SIZE })

for (const [name, args] of Object.entries(COMMANDS)) {
  const { stdout } = spawnSync('node', ['../../dist/cli/main.js', ...args], {
    cwd: demo,
    encoding: 'utf8',
    env: { ...process.env, FORCE_COLOR: '1' },
  })
  const body = new Convert({ escapeXML: true, fg: '#1c2b23' }).toHtml(stdout)
  await page.setContent(
    `<body style="margin:16px;background:#fbfaf5"><pre style="font:13px/1.35 'DejaVu Sans Mono',monospace">$ pachter ${args.join(' ')}\n\n${body}</pre>`,
  )
  await page.screenshot({ path: `${folder}${name}.png` })
}

const server = await serve(0)
await page.goto(server.address)
await page.getByTestId('entries-1').first().waitFor()
await page.getByRole('region', { name: 'as ben' }).getByRole('button', { name: 'anyway' }).first().click()
await page.getByTestId('answer').waitFor()
await page.getByRole('region', { name: 'as ben' }).getByTestId('entries-2').getByText('anyway').click()
await page.getByTestId('answer').nth(1).waitFor()
await page.screenshot({ path: `${folder}page.png` })
await browser.close()
await server.close()
