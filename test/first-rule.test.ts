import { spawnSync } from 'node:child_process'
import { readdirSync, readFileSync } from 'node:fs'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import express from 'express'
import { chromium } from 'playwright-core'
import { browserOptions, hasChromium } from './support/browser.js'
import { scratchFolder } from './support/scratch.js'

const folder = fileURLToPath(new URL('../examples/first-rule/', import.meta.url))

describe('the smallest example', () => {
  it('shows in the browser alone what each caller sees, as the rule is changed', async function () {
    if (!hasChromium && !process.env['CI']) this.skip()
    const lines = readdirSync(folder)
      .filter((name) => /[.](?:ts|html|css)$/.test(name))
      .map((name) => readFileSync(join(folder, name), 'utf8').trimEnd().split('\n').length)
    expect(lines.reduce((sum, each) => sum + each, 0)).to.be.below(80)
    const built = scratchFolder()
    spawnSync('npx', ['vite', 'build', folder, '--outDir', built, '--logLevel', 'error'], { stdio: 'inherit' })
    const server = createServer(express().use(express.static(built)))
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', () => resolve()))
    const browser = await chromium.launch(browserOptions())
    const page = await browser.newPage()
    await page.goto(`http://127.0.0.1:${(server.address() as AddressInfo).port}/`)
    const seenBy = (name: string) => page.getByRole('region', { name }).getByRole('listitem').allTextContents()
    expect(await seenBy('Ana')).to.deep.equal(['Where the shed key is kept', 'Open day on Saturday'])
    expect(await seenBy('Ben')).to.deep.equal(['Open day on Saturday', 'Slugs again'])
    await page.getByRole('textbox').fill('row.authorId.is(caller.id)')
    expect(await seenBy('Ben')).to.deep.equal(['Slugs again'])
    await page.getByRole('textbox').fill("row.audience.is('pubic')")
    expect(await page.getByRole('status').textContent()).to.match(/not one of private, public/)
    await browser.close()
    server.close()
  })
})
