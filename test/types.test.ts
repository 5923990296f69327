import { spawnSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'

describe('the compiler', () => {
  it('refuses wrong names and types in rules and calls', () => {
    const project = fileURLToPath(new URL('types/', import.meta.url))
    const { status, stdout } = spawnSync('npx', ['tsc', '-p', project], { encoding: 'utf8' })
    expect(stdout).to.equal('')
    expect(status).to.equal(0)
  })
})
