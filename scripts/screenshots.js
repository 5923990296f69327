// Draws docs/screenshots from the demo data: what the commands print, and the page. Needs Chromium.
import { spawnSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import Convert from 'ansi-to-html'
import { chromium } from 'playwright-core'
import { tsImport } from 'tsx/esm/api'
import { prepare, run } from './setup.js'

const folder = fileURLToPath(new URL('../docs/screenshots/', import.meta.url))
const demo = fileURLToPath(new URL('../examples/allotment/', import.meta.url))
const SIZE = { width: 1280, height: 800 }
/** A rulebook as it was before a change, and expectations that one rule no longer meets, for the pictures. */
const scratch = mkdtempSync(join(tmpdir(), 'pachter-shots-'))
const before = join(scratch, 'before.json')
const wrong = join(scratch, 'expectations.yaml')
const report = join(scratch, 'report.html')
const COMMANDS = {
  grid: ['grid', 'entries'],
  see: ['see', 'entries', '--differ', '--as', 'nobody', '--as', 'ana', '--as', 'ben', '--as', 'eva', '--limit', '30'],
  counts: ['see', '--unguarded'],
  reach: ['see', '--reach'],
  why: ['why', 'update', 'entries', '7', '--as', 'ben'],
  try: ['try', 'update', 'entries', '1', '--as', 'ana', '--with', '{ audience: public }'],
  compare: ['compare', before],
  check: ['check', wrong],
  indexes: ['indexes', '--try'],
}

const { browserOptions } = await tsImport('../test/support/browser.ts', import.meta.url)
const { serve } = await tsImport('../examples/allotment/serve.ts', import.meta.url)

prepare()
run('npx', ['vite', 'build', '--config', `${demo}vite.config.ts`, '--logLevel', 'error'])
mkdirSync(folder, { recursive: true })
const browser = await chromium.launch(browserOptions())
const page = await browser.newPage({ viewport: SIZE })

const pachter = (...args) =>
  spawnSync('node', ['../../dist/cli/main.js', ...args], {
    cwd: demo,
    encoding: 'utf8',
    env: { ...process.env, FORCE_COLOR: '1' },
  }).stdout

async function fillSqlite(file) {
  const { model } = await tsImport('../examples/allotment/model.ts', import.meta.url)
  const { readData } = await tsImport('../examples/allotment/database.ts', import.meta.url)
  const { createTables, insertRecord, sqlite } = await import('../dist/sql/index.js')
  const { default: Database } = await import('better-sqlite3')
  const database = new Database(file)
  for (const statement of createTables(model, sqlite)) database.exec(statement)
  for (const [table, records] of Object.entries(await readData())) {
    for (const record of records) {
      const { text, values } = insertRecord(model, sqlite, table, record)
      database.prepare(text).run(...values)
    }
  }
  database.close()
}

const rulebook = JSON.parse(pachter('emit', 'json'))
rulebook.tables.entries.grants.update[0].to = ['author']
rulebook.tables.members.grants.read[2].fields = ['name']
rulebook.tables.jobs.grants.read = rulebook.tables.jobs.grants.read.filter(({ to }) => to[0] !== 'onDuty')
writeFileSync(before, JSON.stringify(rulebook))
const expectations = readFileSync(`${demo}expectations.yaml`, 'utf8')
writeFileSync(
  wrong,
  expectations.replace('sees: [1..5]', 'sees: [1..4]').replace('update: [3, 5, 6, 12]', 'update: [3, 5, 6, 12, 20]'),
)

const shoot = async (name, typed, printed) => {
  const body = new Convert({ escapeXML: true, fg: '#1c2b23' }).toHtml(printed)
  await page.setContent(
    `<body style="margin:16px;background:#fbfaf5"><pre style="font:13px/1.35 'DejaVu Sans Mono',monospace">$ ${typed.replaceAll(`${scratch}/`, '')}\n\n${body}</pre>`,
  )
  await page.screenshot({ path: `${folder}${name}.png` })
}

for (const [name, args] of Object.entries(COMMANDS)) {
  const typed = args.map((arg) => (/[ {]/.test(arg) ? `'${arg}'` : arg)).join(' ')
  await shoot(name, `pachter ${typed}`, pachter(...args))
}

// The demo's tables as an application that knows nothing of Pachter would have them.
const korenveld = join(scratch, 'korenveld.db')
await fillSqlite(korenveld)
const adopted = pachter('adopt', korenveld, '--config', join(scratch, 'pachter.config.ts'))
const [entries = ''] = /^ {4}entries: .*?^$/ms.exec(readFileSync(join(scratch, 'access/rules.ts'), 'utf8')) ?? []
await shoot('adopt', 'pachter adopt korenveld.db', `${adopted}\n$ grep -A 20 entries: access/rules.ts\n\n${entries}`)

pachter('check', '--mutate', '--report', report)
await page.goto(`file://${report}`)
await page.screenshot({ path: `${folder}report.png` })
rmSync(scratch, { recursive: true })

const PHONE = { width: 390, height: 800 }
const server = await serve(0)
const origin = server.address.replace(/[/]$/, '')

/** A page of the application as somebody sees it, in a browser of their own. */
async function visit(who, path, viewport, colorScheme) {
  const window = await (await browser.newContext({ viewport, colorScheme, locale: 'en-GB' })).newPage()
  await window.goto(`${origin}/sign-in?to=${encodeURIComponent(path)}`)
  await window.getByRole('button', { name: new RegExp(`^${who}`, 'i') }).click()
  await window.locator('h1').waitFor()
  await window.getByRole('status', { name: 'Loading' }).first().waitFor({ state: 'detached' })
  await window.locator('#main-nav').getByText('Members').waitFor({ state: 'attached' })
  // The fonts, and what comes after the first list.
  await window.waitForTimeout(800)
  return window
}

await page.goto(`${origin}/`)
await page.getByRole('link', { name: 'Sign in' }).click()
await page.screenshot({ path: `${folder}sign-in.png` })

const journal = await visit('ben', '/', SIZE, 'light')
await journal.screenshot({ path: `${folder}journal.png` })
const entry = await visit('ana', '/journal/1', SIZE, 'dark')
await entry.screenshot({ path: `${folder}entry.png` })
const office = await visit('eva', '/office', SIZE, 'light')
await office.getByRole('button', { name: /Look as\s+Dirk/ }).click()
await office.getByText('Nothing can be changed meanwhile').waitFor()
await office.goto(`${origin}/rents`)
await office.getByTestId('rent-1').waitFor()
await office.waitForTimeout(800)
await office.screenshot({ path: `${folder}looking.png` })

// Side by side, as they are narrow.
const phones = [
  await visit('ana', '/journal/1', PHONE, 'light'),
  await visit('carla', '/jobs/1', PHONE, 'dark'),
  await visit('eva', '/waiting-list', PHONE, 'light'),
]
await phones[2]?.getByRole('button', { name: 'Menu' }).click()
const shots = await Promise.all(phones.map((phone) => phone.screenshot()))
await page.setContent(
  `<body style="margin:0;display:flex;gap:55px;background:#8a958c">${shots
    .map((shot) => `<img src="data:image/png;base64,${shot.toString('base64')}">`)
    .join('')}</body>`,
)
await page.screenshot({ path: `${folder}phone.png` })
await browser.close()
await server.close()
