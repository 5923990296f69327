// Runs every test this machine can run, and says plainly which it could not.
import { prepare, run } from './setup.js'

prepare()
// Only now is it sure to be installed.
const { tsImport } = await import('tsx/esm/api')
const { available } = await tsImport('../test/support/servers.ts', import.meta.url)
const { hasChromium } = await tsImport('../test/support/browser.ts', import.meta.url)

run('npx', ['mocha', 'test/*.test.ts', ...process.argv.slice(2)])

const missing = [
  [hasChromium, 'the page: install Chromium (Debian: apt-get install chromium), or set PACHTER_CHROMIUM to its path'],
  [available.postgresql, 'PostgreSQL as a server: apt-get install postgresql, or set PACHTER_POSTGRESQL_URL'],
  [available.mariadb, 'MariaDB: apt-get install mariadb-server, or set PACHTER_MARIADB_URL'],
  [Number(process.versions.node.split('.')[0]) >= 22, 'node:sqlite: run with Node 22 or later'],
].filter(([here]) => !here)
for (const [, what] of missing) console.log(`Not run here: ${what}.`)
if (missing.length === 0) console.log('Every test could be run here.')
