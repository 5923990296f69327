import { mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { compileErrors } from './support/compiled.js'

const root = fileURLToPath(new URL('..', import.meta.url))
const folder = join(root, '.scratch-interface-docs')

/** What the pages take as given. */
const GIVEN = {
  'live.md': `
    import type { Express } from 'express'
    import type { Pool } from 'pg'
    import type { Identity } from 'pachter/identity'
    import { model } from './model.js'
    import { type caller, rules } from './rules.js'
    declare const app: Express
    declare const pool: Pool
    declare const identity: Identity<typeof caller, never>
  `,
  'interface.md': `
    import { Component, type FC } from 'react'
    import { createBrowserRouter } from 'react-router'
    import type { Guard } from 'pachter'
    import { createIdentity } from 'pachter/identity'
    import type { SignIn } from 'pachter/identity/sign-in'
    import { model } from './model.js'
    import { caller, rules } from './rules.js'
    declare const guard: Guard<typeof model, typeof caller>
    declare const signIn: SignIn<typeof caller>
    declare const draw: (records: readonly object[]) => void
    declare const EditPage: FC
    declare const Profile: FC
    declare const Office: FC
    declare const Refused: FC
    export { Component }
  `,
}

describe('the pages on live lists and the interface', () => {
  before(() => {
    rmSync(folder, { recursive: true, force: true })
    mkdirSync(folder)
    for (const file of ['model.ts', 'rules.ts']) symlinkSync(join(root, 'examples/allotment', file), join(folder, file))
  })
  after(() => rmSync(folder, { recursive: true, force: true }))

  it('have code that compiles', () => {
    const files = Object.entries(GIVEN).map(([page, given]) => {
      const text = readFileSync(join(root, 'docs', page), 'utf8')
      const blocks = [...text.matchAll(/^```tsx?\n(.*?)^```/gms)].map(([, code = '']) => code)
      expect(blocks.length, page).to.be.above(0)
      const file = join(folder, page.replace('.md', '.tsx'))
      writeFileSync(file, [given, ...blocks, 'export {}'].join('\n'))
      return file
    })
    expect(compileErrors(files)).to.equal('')
  })
})
