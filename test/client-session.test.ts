import { expect } from 'chai'
import fc from 'fast-check'
import { type AnswerError, createClient } from 'pachter/client'
import { model } from './support/samples/rules.js'

/** What a server can say of who asks; `lost` where it does not answer. */
const PEOPLE = ['ana', 'ben', 'nobody', 'lost'] as const
type Somebody = (typeof PEOPLE)[number]

/**
 * What can happen in a window: half a minute goes by, somebody signs in somewhere, the server refuses a token that is over or
 * does not find a session any more, somebody signs out here.
 */
const HAPPENS = ['later', 'told', 'credentials-refused', 'sign-in-required', 'out'] as const

describe('a client’s session', () => {
  const clock = Date.now
  // A page is what has a document.
  before(() => Object.assign(globalThis, { document: {} }))
  after(() => Reflect.deleteProperty(globalThis, 'document'))
  afterEach(() => (Date.now = clock))

  /** A window, in which a page keeps what it showed until it is told that somebody else must not see it. */
  function openWindow() {
    let who: Somebody = 'nobody'
    let refusal: string | undefined
    let time = 0
    let holds = Promise.resolve()
    Date.now = () => time
    const page = { of: undefined as Somebody | undefined, events: [] as string[] }
    const client = createClient({
      model,
      signIn: null,
      fetch: (() => {
        if (refusal) return Promise.resolve(problem(refusal))
        if (who === 'lost') return Promise.reject(new Error('no network'))
        const answer = who === 'nobody' ? { signedIn: false } : { signedIn: true, id: who, roles: [] }
        return holds.then(() => Response.json(answer))
      }) as never,
    })
    client.onSession((what) => {
      page.events.push(what)
      if (what === 'another' || what === 'signed-out') page.of = undefined
    })
    return {
      page,
      close: () => client.close(),
      /** The page asks who it is, and shows them what is theirs. */
      async look() {
        const session = await client.session().catch(() => undefined)
        if (session?.signedIn && who !== 'lost') page.of = session.caller['id'] as Somebody
      },
      async happen(what: (typeof HAPPENS)[number], next: Somebody) {
        time += 31_000
        if (what === 'out') return void (await client.signOut().then(() => (who = 'nobody')))
        who = next
        if (what === 'told') await client.tellSignedIn()
        if (what === 'later' || what === 'told') return
        refusal = what
        await client.list('samples').catch(() => undefined)
        refusal = undefined
      },
      who: () => who,
      /** Has the server answer no sooner than that. */
      hold: (until: Promise<void>) => (holds = until),
    }
  }

  it('leaves nothing of one person to another, whatever happened in between', async () => {
    const step = fc.tuple(fc.constantFrom(...HAPPENS), fc.constantFrom(...PEOPLE))
    await fc.assert(
      fc.asyncProperty(fc.array(step, { minLength: 1, maxLength: 8 }), async (steps) => {
        const window = openWindow()
        for (const [what, next] of steps) {
          await window.happen(what, next)
          const before = window.page.of
          await window.look()
          const who = window.who()
          // Where the server does not answer, it is not known that anybody else came.
          if (who === 'ana' || who === 'ben') {
            const wasTold = before === undefined || before === who || window.page.events.at(-1) === 'another'
            expect(wasTold, `${before} to ${who}: ${window.page.events.join()}`).to.equal(true)
          }
        }
        window.close()
      }),
      { numRuns: 300 },
    )
  })

  it('hears nothing of an answer that was asked for before somebody went', async () => {
    const window = openWindow()
    await window.happen('told', 'ana')
    await window.happen('later', 'ana')
    let answer = () => {}
    window.hold(new Promise((resolve) => (answer = resolve)))
    const looking = window.look()
    await window.happen('out', 'nobody')
    answer()
    await looking
    expect(window.page.events).to.deep.equal(['signed-out'])
    window.close()
  })

  for (const refusal of ['credentials-refused', 'sign-in-required'] as const) {
    it(`says that it is over, and that it goes on, once, by ${refusal}`, async () => {
      const window = openWindow()
      await window.happen(refusal === 'sign-in-required' ? refusal : 'later', 'nobody')
      await window.happen('told', 'ana')
      await window.look()
      await window.happen(refusal, 'ana')
      await window.happen('told', 'ana')
      await window.happen('told', 'ana')
      await window.happen('later', 'nobody')
      await window.look()
      await window.happen('later', 'lost')
      await window.look()
      await window.happen('told', 'ben')
      await window.happen('out', 'nobody')
      expect(window.page.events).to.deep.equal(['ended', 'signed-in', 'ended', 'another', 'signed-out'])
      window.close()
    })
  }
})

describe('a client on a server that draws pages', () => {
  it('takes nobody for who asked before', async () => {
    let who: string | undefined = 'ana'
    const answer = () =>
      who ? Promise.resolve(Response.json({ signedIn: true, id: who, roles: [] })) : Promise.reject()
    const client = createClient({ model, signIn: null, fetch: answer as never })
    expect((await client.session()).caller).to.deep.equal({ id: 'ana' })
    who = 'ben'
    expect((await client.session()).caller).to.deep.equal({ id: 'ben' })
    who = undefined
    expect(await client.session().catch(({ code }: AnswerError) => code)).to.equal('unreachable')
  })
})

const problem = (code: string): Response =>
  new Response(
    JSON.stringify({ type: `urn:pachter:problem:${code}`, title: 'Refused', status: 401, detail: 'Refused.' }),
    { status: 401, headers: { 'content-type': 'application/problem+json' } },
  )
