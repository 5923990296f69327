import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { fileURLToPath } from 'node:url'
import { prepare, run } from './setup.js'

const demo = fileURLToPath(new URL('../examples/allotment', import.meta.url))

prepare({ types: false })

/** Starts a command; what it prints is kept until the others before it have printed theirs. */
function started(command, ...args) {
  const child = spawn(command, args, { cwd: demo, stdio: ['ignore', 'pipe', 'inherit'] })
  let output = ''
  child.stdout.setEncoding('utf8').on('data', (text) => (output += text))
  return once(child, 'close').then(([status]) => {
    if (status !== 0) process.exit(status ?? 1)
    return output
  })
}

// The database inside the process takes seconds to start, in each of them.
const [counts, entries] = [[], ['entries']].map((table) => started('node', '../../dist/cli/main.js', 'see', ...table))
run('npx', ['vite', 'build', '--config', `${demo}/vite.config.ts`, '--logLevel', 'error'])
console.log(`\nHow many records each caller sees\n\n${await counts}`)
console.log(`\nWhich journal entries, what may be done to each, and through what\n\n${await entries}`)
run('npx', ['tsx', `${demo}/demo.ts`])
