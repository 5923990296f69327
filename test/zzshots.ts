import { chromium } from 'playwright-core'
import { serve } from '../examples/allotment/serve.js'
import { browserOptions } from './support/browser.js'
const server = await serve(0)
const base = server.address.replace(/\/$/, '')
const browser = await chromium.launch(browserOptions())
// name|caller|path|size|scheme ; actions
for (const spec of process.argv.slice(2)) {
  const [name, who, path = '/', size = 'wide', scheme = 'light', act = ''] = spec.split('|') as string[]
  const context = await browser.newContext({ viewport: size === 'phone' ? { width: 390, height: 844 } : { width: 1280, height: 800 }, colorScheme: scheme as 'light', locale: 'en-GB' })
  const page = await context.newPage()
  page.setDefaultTimeout(15000)
  page.on('console', (m) => { if (m.type() === 'error' || m.type() === 'warning') console.log(name, m.type(), m.text().slice(0, 300)) })
  page.on('response', (r) => { if (r.status() >= 400) console.log(name, r.status(), r.url().replace(base, '')) })
  page.on('pageerror', (e) => console.log(name, 'PAGEERROR', e.message.slice(0, 400)))
  try {
    await page.goto(base + '/')
    if (who !== 'visitor') {
      await page.goto(base + '/sign-in?to=' + encodeURIComponent(path!))
      await page.getByRole('button', { name: new RegExp('^' + who, 'i') }).click()
    } else await page.goto(base + path)
    await page.locator('h1').waitFor()
    await page.waitForTimeout(900)
    if (act) await new Function('page', 'return (async () => {' + act + '})()')(page)
    await page.screenshot({ path: `/tmp/shots/${name}.png` })
  } catch (e) { console.log(name, 'FAILED', String(e).slice(0, 500)); await page.screenshot({ path: `/tmp/shots/${name}.png` }) }
  await context.close()
}
await browser.close(); await server.close(); process.exit(0)
