import { spawnSync } from 'node:child_process'
import { existsSync, readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))

/** Runs a command in the project's folder, and stops this script where the command fails. */
export function run(command, args, options = {}) {
  const { status, error } = spawnSync(command, args, { cwd: root, stdio: 'inherit', ...options })
  if (error) throw error
  if (status !== 0) process.exit(status ?? 1)
}

/**
 * Installs what is missing and builds the package.
 *
 * @param compiles whether drivers are needed that have to be compiled, which takes minutes
 * @param types whether the types are needed as well
 */
export function prepare({ compiles = false, types = true } = {}) {
  if (!existsSync(`${root}node_modules/.package-lock.json`)) {
    console.log('Installing, once…')
    run('npm', ['ci', '--no-audit', '--no-fund', '--ignore-scripts'])
  }
  if (compiles) prepareSqlite()
  if (types) run('npm', ['run', '--silent', 'build'])
  else run('node', ['scripts/bundle.js'])
}

function prepareSqlite() {
  const folder = `${root}node_modules/better-sqlite3/`
  const { version } = JSON.parse(readFileSync(`${folder}package.json`, 'utf8'))
  // From version 13 on, it comes compiled, and is for Node 22 and later.
  if (!version.startsWith('12.')) return
  if (Number(process.versions.node.split('.')[0]) >= 24) {
    console.error(`better-sqlite3 ${version} ends the process on Node 24 and later; run this with Node 20 or 22.`)
    process.exit(1)
  }
  if (existsSync(`${folder}build/Release/better_sqlite3.node`)) return
  console.log('Compiling the driver of SQLite, once…')
  run('npm', ['rebuild', 'better-sqlite3'])
}
