import { fileURLToPath } from 'node:url'
import { prepare, run } from './setup.js'

const demo = fileURLToPath(new URL('../examples/allotment', import.meta.url))

prepare()
run('npx', ['vite', 'build', '--config', `${demo}/vite.config.ts`, '--logLevel', 'error'])
const see = (...table) => run('node', ['../../dist/cli/main.js', 'see', ...table], { cwd: demo })
console.log('\nHow many records each caller sees\n')
see()
console.log('\nWhich journal entries, what may be done to each, and through what\n')
see('entries')
run('npx', ['tsx', `${demo}/demo.ts`])
