// Puts a leak into a copy of the library, one at a time, and says whether the tests of what is hidden find it, in the run
// that CI makes of them: a property that finds nothing because it looks at nothing would be found out here.
import { spawnSync } from 'node:child_process'
import { cpSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))
/** Each leak: what it tells, and the line of the source that, changed so, tells it. */
const LEAKS = JSON.parse(readFileSync(join(root, 'scripts/leaks.json'), 'utf8'))

/** A copy of the project; what is installed is shared. */
function copied() {
  const folder = mkdtempSync(join(tmpdir(), 'pachter-leak-'))
  for (const each of ['src', 'test', 'examples', 'scripts', 'package.json', 'tsconfig.json', '.mocharc.json']) {
    cpSync(join(root, each), join(folder, each), {
      recursive: true,
      filter: (path) => !/\/(node_modules|dist)$/.test(path),
    })
  }
  symlinkSync(join(root, 'node_modules'), join(folder, 'node_modules'))
  return folder
}

/** The names of the tests that fail in this folder, built anew. */
function failing(folder) {
  // What a failing test prints can be long.
  const options = {
    cwd: folder,
    encoding: 'utf8',
    maxBuffer: 2 ** 28,
    env: { ...process.env, CI: 'true', PACHTER_SHRINK: 'no' },
  }
  const built = spawnSync('node', ['scripts/bundle.js'], options)
  if (built.status !== 0) throw new Error(built.stderr)
  // The quickest first; one that fails is enough.
  const tests = ['holes-hidden', 'hidden-verdicts', 'hidden'].map((name) => `test/${name}.test.ts`)
  const { status, stdout } = spawnSync('npx', ['mocha', '--bail', '--reporter', 'tap', ...tests], options)
  const failures = [...stdout.matchAll(/^not ok \d+ (.+)$/gm)].map(([, title]) => title)
  if (status !== failures.length || !/^# tests \d+$/m.test(stdout))
    throw new Error('The tests did not run to their end.')
  return failures
}

const folder = copied()
try {
  const before = failing(folder)
  if (before.length > 0) throw new Error(`Fails without any leak: ${before.join(', ')}`)
  const only = process.argv[2]
  for (const { tells, file, from, to } of LEAKS.filter((leak) => !only || leak.tells.includes(only))) {
    const path = join(folder, file)
    const source = readFileSync(path, 'utf8')
    const parts = source.split(from)
    if (parts.length !== 2) throw new Error(`${file} has not exactly one place that reads: ${from}`)
    writeFileSync(path, parts.join(to))
    const found = failing(folder)
    writeFileSync(path, source)
    if (found.length === 0) process.exitCode = 1
    console.log(found.length === 0 ? `missed  ${tells}` : `found   ${tells}: ${found.join('; ')}`)
  }
} finally {
  rmSync(folder, { recursive: true, force: true })
}
