import { spawnSync } from 'node:child_process'
import { existsSync } from 'node:fs'
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
  if (compiles && !existsSync(`${root}node_modules/better-sqlite3/build/Release/better_sqlite3.node`)) {
    console.log('Compiling the driver of SQLite, once…')
    run('npm', ['rebuild', 'better-sqlite3'])
  }
  if (types) run('npm', ['run', '--silent', 'build'])
  else run('node', ['scripts/bundle.js'])
}
