import { spawnSync } from 'node:child_process'
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { fileURLToPath } from 'node:url'
import { type Browser, chromium, type Page } from 'playwright-core'
import { serve } from '../../examples/allotment/serve.js'
import { browserOptions } from './browser.js'

const config = fileURLToPath(new URL('../../examples/allotment/vite.config.ts', import.meta.url))
const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')

let isBuilt = false

/** Builds Korenveld's pages, once for all tests. */
function build(): void {
  if (isBuilt) return
  const args = ['vite', 'build', '--config', config, '--logLevel', 'error']
  isBuilt = spawnSync('npx', args, { stdio: 'inherit' }).status === 0
  if (!isBuilt) throw new Error('The pages could not be built.')
}

/** Korenveld, built and served, and browsers of whoever comes. */
export async function openKorenveld() {
  build()
  const server = await serve(0)
  const browser: Browser = await chromium.launch(browserOptions())
  const origin = server.address.replace(/\/$/, '')
  return {
    server,
    origin,
    /** A window of somebody's own browser, signed in at the identity provider, on a page. */
    visit: async (who: string, path = '/', options: Parameters<Browser['newContext']>[0] = {}): Promise<Page> => {
      const page = await (await browser.newContext({ locale: 'en-GB', ...options })).newPage()
      page.setDefaultTimeout(30_000)
      await page.goto(
        `${origin}${who === 'visitor' ? path : `/sign-in?${new URLSearchParams({ to: path }).toString()}`}`,
      )
      if (who !== 'visitor') await chooseAt(page, who)
      await page.locator('h1').waitFor()
      return page
    },
    close: async () => {
      await browser.close()
      await server.close()
    },
  }
}

/** Says at the identity provider whom to be. */
export const chooseAt = (page: Page, who: string): Promise<void> =>
  page.getByRole('button', { name: new RegExp(`^${who}`, 'i') }).click()

/** A request sent past the page, as anyone can with what the page has. */
export const forge = (page: Page, method: string, path: string, body?: object) =>
  page.evaluate(
    async ([how, where, what]) => {
      const session = (await (await fetch('/sign-in/session')).json()) as { token?: string }
      const headers = { 'x-csrf-token': session.token ?? '', 'content-type': 'application/json' }
      const response = await fetch(where, { method: how, headers, ...(what !== null && { body: what }) })
      const text = await response.text()
      return { status: response.status, detail: text === '' ? '' : (JSON.parse(text) as { detail?: string }).detail }
    },
    [method, path, body ? JSON.stringify(body) : null] as const,
  )

/** What an automated check of accessibility finds wrong with a page, in short. */
export async function accessibilityOf(page: Page): Promise<readonly string[]> {
  await page.evaluate(axe)
  return page.evaluate(async () => {
    const { axe: checker } = globalThis as unknown as {
      axe: { run(options: object): Promise<{ violations: readonly Violation[] }> }
    }
    const { violations } = await checker.run({ resultTypes: ['violations'] })
    return violations.flatMap(({ id, nodes }) =>
      nodes.map(({ html, any }) => `${id}: ${html.slice(0, 160)} ${any[0]?.message ?? ''}`),
    )
    interface Violation {
      readonly id: string
      readonly nodes: readonly { readonly html: string; readonly any: readonly { readonly message: string }[] }[]
    }
  })
}
