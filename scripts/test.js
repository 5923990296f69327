// Runs every test this machine can run, and says plainly which it could not.
import { existsSync } from 'node:fs'
import { prepare, run } from './setup.js'

const chromium = process.env.PACHTER_CHROMIUM ?? '/usr/bin/chromium'
const missing = existsSync(chromium)
  ? []
  : [
      'the page, for want of Chromium: install it (Debian: apt-get install chromium), or set PACHTER_CHROMIUM to its path',
    ]

prepare()
run('npx', ['mocha', 'test/*.test.ts', ...process.argv.slice(2)])
for (const each of missing) console.log(`Not run here: ${each}.`)
if (missing.length === 0) console.log('Every test could be run here.')
