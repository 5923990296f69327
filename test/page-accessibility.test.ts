import { expect } from 'chai'
import { hasChromium } from './support/browser.js'
import { accessibilityOf, openKorenveld } from './support/pages.js'

describe('Korenveld’s pages, for everybody', function () {
  this.timeout(240_000)
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>
  before(async function () {
    if (!hasChromium && !process.env['CI']) this.skip()
    korenveld = await openKorenveld()
  })
  after(() => korenveld?.close())

  it('pass an automated check of accessibility, in light and dark, wide and narrow', async () => {
    const visits: Readonly<Record<string, readonly string[]>> = {
      visitor: ['/', '/plots', '/journal/4', '/no/such/page'],
      ana: [
        '/',
        '/journal/1',
        '/journal/1/edit',
        '/journal/new',
        '/plots/1',
        '/jobs',
        '/jobs/1',
        '/jobs/new',
        '/rents',
        '/waiting-list',
        '/members',
        '/profile',
        '/office',
      ],
      carla: ['/wardens', '/jobs/1'],
      eva: ['/office', '/waiting-list', '/rents'],
    }
    const found: string[] = []
    const looks = [
      { colorScheme: 'light', width: 1280, height: 800 },
      { colorScheme: 'dark', width: 390, height: 844 },
    ] as const
    for (const [name, paths] of Object.entries(visits)) {
      const page = await korenveld.visit(name)
      for (const path of paths) {
        await page.goto(`${korenveld.origin}${path}`)
        await page.locator('h1').waitFor()
        await page.locator('main[aria-busy="false"]').waitFor()
        await page.getByRole('status', { name: 'Loading' }).first().waitFor({ state: 'detached' })
        for (const { colorScheme, ...size } of looks) {
          await page.emulateMedia({ colorScheme, reducedMotion: 'reduce' })
          await page.setViewportSize(size)
          await page.locator(`html[data-mantine-color-scheme=${colorScheme}]`).waitFor()
          for (const each of await accessibilityOf(page)) found.push(`${name} ${colorScheme} ${path}: ${each}`)
          const tooWide = await page.evaluate(
            () => document.documentElement.scrollWidth > document.documentElement.clientWidth,
          )
          if (tooWide) found.push(`${name} ${colorScheme} ${path}: is wider than the window`)
        }
      }
      await page.context().close()
    }
    expect(found.join('\n')).to.equal('')
  })
})
