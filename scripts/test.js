// Runs every test this machine can run, in three processes at the same time, and says plainly which it could not.
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
/**
 * Those that draw most worlds, those that try what is built of it all, and all others: each about a third of the time. There are
 * more of them than processors, since each waits for databases and browsers; each starts its own servers.
 */
const PARTS = [
  /^(engines|hidden)/,
  /^(adopt|check|demo|first-rule|getting-started|http-verdicts|no-trace|own-queries|page|prisma|samples)/,
  /./,
]
const partOf = (file) => PARTS.findIndex((part) => part.test(file))
// Servers that are given by address are there once, so that the parts would be in each other's way.
const isShared = Boolean(process.env.PACHTER_POSTGRESQL_URL ?? process.env.PACHTER_MARIADB_URL)

const runs = []
for (const [part] of PARTS.entries()) {
  // What others say comes when the last has said all.
  const run = mocha(
    files.filter((file) => partOf(file) === part),
    isShared || part === PARTS.length - 1 ? 'inherit' : 'pipe',
  )
  if (isShared) await run
  runs.push(run)
}
const ended = await Promise.all(runs)
process.stdout.write(ended.map(({ output }) => output).join(''))
if (ended.some(({ status }) => status !== 0)) process.exitCode = 1

async function mocha(part, stdout) {
  // What a test that failed left open would keep it from ending.
  const args = ['mocha', '--exit', ...part.map((file) => `test/${file}`), ...process.argv.slice(2)]
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
