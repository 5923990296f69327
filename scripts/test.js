// Runs every test this machine can run, in two processes at the same time, and says plainly which it could not.
import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { readdirSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { prepare } from './setup.js'

prepare({ compiles: true })
// Only now is it sure to be installed.
const { tsImport } = await import('tsx/esm/api')
const { available } = await tsImport('../test/support/servers.ts', import.meta.url)
const { hasChromium } = await tsImport('../test/support/browser.ts', import.meta.url)

const root = fileURLToPath(new URL('..', import.meta.url))
const files = readdirSync(`${root}test`).filter((file) => file.endsWith('.test.ts'))
/** Those that draw much, those that check drawn worlds, and those in a browser take about as long as all others. Each half starts its own servers. */
const isLong = (file) =>
  /^(checking|engines|first-rule|getting-started|hidden\.|hostile|live-drawn|page|prisma|small-worlds)/.test(file)
// Servers that are given by address are there once, so that one half would be in the other's way.
const isShared = Boolean(process.env.PACHTER_POSTGRESQL_URL ?? process.env.PACHTER_MARIADB_URL)

const others = mocha(
  files.filter((file) => !isLong(file)),
  'inherit',
)
if (isShared) await others
// What the second half says comes when the first has said all.
const long = mocha(files.filter(isLong), 'pipe')
const ended = [await others, await long]
process.stdout.write(ended.map(({ output }) => output).join(''))
if (ended.some(({ status }) => status !== 0)) process.exitCode = 1

async function mocha(half, stdout) {
  const args = ['mocha', ...half.map((file) => `test/${file}`), ...process.argv.slice(2)]
  const run = spawn('npx', args, { cwd: root, stdio: ['ignore', stdout, 'inherit'] })
  let output = ''
  run.stdout?.setEncoding('utf8').on('data', (text) => (output += text))
  const [status] = await once(run, 'close')
  return { output, status }
}

const missing = [
  [hasChromium, 'the page: install Chromium (Debian: apt-get install chromium), or set PACHTER_CHROMIUM to its path'],
  [available.postgresql, 'PostgreSQL as a server: apt-get install postgresql, or set PACHTER_POSTGRESQL_URL'],
  [available.mariadb, 'MariaDB: apt-get install mariadb-server, or set PACHTER_MARIADB_URL'],
  [available.cluster, 'a cluster of MariaDB: apt-get install mariadb-server galera-4 rsync'],
  [Number(process.versions.node.split('.')[0]) >= 22, 'node:sqlite: run with Node 22 or later'],
].filter(([here]) => !here)
for (const [, what] of missing) console.log(`Not run here: ${what}.`)
if (missing.length === 0) console.log('Every test could be run here.')
