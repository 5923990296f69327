import { expect } from 'chai'
import { hasChromium } from './support/browser.js'
import { chooseAt, forge, openKorenveld } from './support/pages.js'

describe('Korenveld’s pages, as people sign in and out', function () {
  this.timeout(240_000)
  let korenveld: Awaited<ReturnType<typeof openKorenveld>>

  before(async function () {
    // In CI a missing browser is a failure: the launch says so.
    if (!hasChromium && !process.env['CI']) this.skip()
    korenveld = await openKorenveld()
  })
  after(() => korenveld?.close())

  it('lose nothing that was typed where the session ends in the middle, and say what to do', async () => {
    const page = await korenveld.visit('ana', '/journal/2/edit')
    await page.getByLabel('Title').fill('Slugs, once more')
    await page.context().clearCookies()
    await page.getByRole('button', { name: 'Save' }).click()
    await page.getByText('You are not signed in any more').first().waitFor()
    expect(await page.getByLabel('Title').inputValue()).to.equal('Slugs, once more')
    await page.getByRole('alert').getByRole('link', { name: 'Sign in again' }).first().click()
    await chooseAt(page, 'ana')
    await page.getByText('This is what you had typed').first().waitFor()
    expect(await page.getByLabel('Title').inputValue()).to.equal('Slugs, once more')
    await page.getByRole('button', { name: 'Save' }).click()
    await page.getByRole('heading', { name: 'Slugs, once more' }).waitFor()
    await page.context().close()
  })

  it('keep all of it where the same signs in again in another window, and nothing where somebody else does', async () => {
    const page = await korenveld.visit('ana', '/journal/3/edit')
    const context = page.context()
    const journal = await context.newPage()
    await journal.goto(korenveld.origin)
    await journal.getByTestId('entry-45').waitFor()
    await page.getByLabel('Title').fill('Of Ana alone')
    const signIn = async (cookies: Parameters<typeof context.addCookies>[0]) => {
      await context.clearCookies()
      await context.addCookies(cookies)
      const window = await context.newPage()
      await window.goto(`${korenveld.origin}/profile`)
      await window.locator('h1').waitFor()
    }
    const own = await context.cookies()
    await context.clearCookies()
    await page.getByRole('button', { name: 'Save' }).click()
    await page.getByText('You are not signed in any more').first().waitFor()
    await signIn(own)
    await page.getByText('You are not signed in any more').waitFor({ state: 'hidden' })
    expect(await page.getByLabel('Title').inputValue()).to.equal('Of Ana alone')
    await journal.getByTestId('entry-45').waitFor()
    await signIn(await (await korenveld.visit('ben')).context().cookies())
    await journal.getByTestId('entry-45').waitFor({ state: 'detached' })
    await journal.getByTestId('entry-1').waitFor()
    // Ben may change this entry as well, as it is stored.
    await page.waitForFunction(() => document.querySelector<HTMLInputElement>('[name=title]')?.value !== 'Of Ana alone')
    await page.getByLabel('Title').waitFor()
    expect(await page.getByLabel('Title').inputValue()).to.equal('What the frost took')
    // Nor is a page that somebody goes back to after signing out what it was.
    await context.clearCookies()
    await journal.evaluate(() => dispatchEvent(new PageTransitionEvent('pageshow', { persisted: true })))
    await journal.getByTestId('entry-1').waitFor({ state: 'detached' })
    await context.close()
  })

  it('are left in all windows by whoever signs out in one', async () => {
    const first = await korenveld.visit('ana', '/profile')
    const second = await first.context().newPage()
    await second.goto(`${korenveld.origin}/rents`)
    await second.getByRole('heading', { name: 'Rents' }).waitFor()
    await first.getByRole('button', { name: 'Sign out' }).click()
    await second.getByRole('link', { name: 'Sign in' }).waitFor()
    expect(new URL(second.url()).pathname).to.equal('/')
    await first.context().close()
  })

  it('let the secretary look as another, marked so, and unable to write', async () => {
    const page = await korenveld.visit('eva', '/office')
    await page.getByRole('button', { name: /Look as\s+Ben Okafor/ }).click()
    await page.getByText('Nothing can be changed meanwhile.').first().waitFor()
    await page.getByTestId('entry-1').waitFor()
    expect(await page.getByTestId('entry-45').count()).to.equal(0)
    await page.goto(`${korenveld.origin}/journal/3`)
    const edit = page.getByRole('button', { name: 'Edit' })
    expect(await edit.getAttribute('title')).to.match(/^You are looking as somebody else/)
    expect(await forge(page, 'PATCH', '/api/entries/3', { title: 'Forged' })).to.deep.equal({
      status: 403,
      detail: 'You are looking as somebody else, and can change nothing meanwhile.',
    })
    await page.goto(`${korenveld.origin}/office`)
    await page.getByRole('heading', { name: 'Not for you' }).waitFor()
    await page.getByRole('button', { name: 'Back to yourself' }).click()
    await page.getByRole('link', { name: 'Office' }).waitFor()
    await page.context().close()
    // Of whoever else sets the cookie, nothing becomes.
    const ben = await korenveld.visit('ben')
    await ben.context().addCookies([{ name: 'look-as', value: '5', url: korenveld.origin }])
    expect(await ben.evaluate(async () => (await (await fetch('/api/$caller')).json()) as object)).to.deep.equal({
      signedIn: true,
      id: 2,
      roles: [],
    })
    await ben.context().close()
  })
})
