import { expect } from 'chai'
import { execFileSync } from 'node:child_process'
import { cpSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { scratchFolder } from './support/scratch.js'

const root = fileURLToPath(new URL('..', import.meta.url))

describe('The package', () => {
  const folder = scratchFolder()

  it('brings the command line’s libraries along, so that nothing else is installed', () => {
    expect(JSON.parse(readFileSync(join(root, 'package.json'), 'utf8'))).not.to.have.property('dependencies')
    const own = join(folder, 'node_modules/pachter')
    mkdirSync(own, { recursive: true })
    for (const each of ['dist', 'package.json']) cpSync(join(root, each), join(own, each), { recursive: true })
    writeFileSync(
      join(folder, 'pachter.config.ts'),
      `import { defineCaller, defineModel, defineRules, integer, text } from 'pachter'
       import { defineConfig } from 'pachter/cli'
       const model = defineModel({ plots: { id: integer().key(), name: text() } })
       const rules = defineRules(model, defineCaller({ id: integer() }), {
         plots: ({ table, anyone }) => table.grants({ read: [anyone] }),
       })
       export default defineConfig({ rules })`,
    )
    const told = execFileSync('node', [join(own, 'dist/cli/main.js'), 'grid'], { cwd: folder, encoding: 'utf8' })
    expect(told).to.match(/plots[^]*anyone +yes/)
    const loaded = execFileSync('node', ['--input-type=module', '-e', "await import('pachter/check')"], { cwd: folder })
    expect(String(loaded)).to.equal('')
    expect(readFileSync(join(own, 'dist/libraries/LICENSES.txt'), 'utf8')).to.match(/^yaml .*ISC[^]*Permission to use/m)
  })

  it('has every line that the search for leaks changes, once', () => {
    const leaks = JSON.parse(readFileSync(join(root, 'scripts/leaks.json'), 'utf8')) as readonly Leak[]
    for (const { file, from } of leaks)
      expect(readFileSync(join(root, file), 'utf8').split(from), from).to.have.length(2)
    expect(leaks).to.have.length.greaterThan(10)
  })
})

interface Leak {
  readonly file: string
  readonly from: string
}
