import { expect } from 'chai'
import { createIdentity, remote } from 'pachter/identity'
import { type caller, rules } from '../examples/allotment/rules.js'
import { refusalOf } from './support/korenveld.js'
import { asked, surroundings } from './support/surroundings.js'

describe('another application that says who asks', () => {
  const { listening } = surroundings()

  it('asks it with the cookie or token, and refuses whatever is no clear yes', async () => {
    let requests = 0
    let answer: (token: string) => [status: number, body: string, wait?: number] = () => [200, '{}']
    const other = await listening()
    other.server.on('request', (request, response) => {
      requests += 1
      const [status, body, wait = 0] = answer(request.headers.cookie ?? request.headers.authorization ?? '')
      setTimeout(() => response.writeHead(status, status === 302 ? { location: '/' } : {}).end(body), wait)
    })
    const identityWith = (keepSeconds = 0) =>
      createIdentity({
        rules,
        onEvent: () => undefined,
        sources: [
          remote<typeof caller>({
            url: `${other.origin}/who`,
            cookies: ['sid'],
            authorization: true,
            timeoutSeconds: 0.2,
            keepSeconds,
            caller: ({ member }) => (member === undefined ? undefined : { id: Number(member) }),
          }),
        ],
      })
    const identity = await identityWith()
    const cookie = { cookie: 'theme=dark; sid=abc' }
    answer = (given) => (given === 'sid=abc' ? [200, '{"member":1}'] : [401, ''])
    expect(await identity.callerOf(asked(cookie))).to.deep.equal({ id: 1 })
    expect(await refusalOf(identity.callerOf(asked({ cookie: 'sid=made-up' })))).to.include({ status: 401 })
    expect(await refusalOf(identity.callerOf(asked({ authorization: 'Bearer x' })))).to.include({ status: 401 })
    const before = requests
    expect(await identity.callerOf(asked({ cookie: 'theme=dark' }))).to.have.property('anonymous')
    expect(requests, 'is not asked about nothing').to.equal(before)
    const forged = asked({ ...cookie, origin: 'https://elsewhere.example', host: 'localhost' }, 'POST')
    expect(await refusalOf(identity.callerOf(forged))).to.include({ status: 403, code: 'request-forged' })
    const doubts: [number, string, number?][] = [
      [200, '{}', 1000],
      [200, 'not json'],
      [200, '[1]'],
      [200, `{"a":"${'x'.repeat(70_000)}"}`],
      [204, ''],
      [302, ''],
      [500, ''],
      [500, '{"member":1}'],
      [206, '{"member":1}'],
    ]
    for (const doubt of doubts) {
      answer = () => doubt
      expect(await refusalOf(identity.callerOf(asked(cookie))), String(doubt)).to.include({ status: 503 })
    }
    answer = () => [200, '{"nobody":true}']
    expect(await refusalOf(identity.callerOf(asked(cookie)))).to.include({ status: 401 })
    // What it is not to be handed, it is not.
    const byCookie = remote<typeof caller>({ url: `${other.origin}/who`, cookies: ['sid'], caller: () => ({ id: 1 }) })
    const both = { ...cookie, authorization: 'Bearer x' }
    other.server.once('request', ({ headers }) => expect(headers).not.to.have.property('authorization'))
    await byCookie.identify({ request: asked(both), note: () => undefined })
    const nothing = { request: asked({ authorization: 'Bearer x' }), note: () => undefined }
    expect(await byCookie.identify(nothing)).to.deep.equal({ found: 'nothing' })
    const keeping = await identityWith(60)
    answer = () => [200, '{"member":2}']
    expect(await keeping.callerOf(asked(cookie))).to.deep.equal({ id: 2 })
    answer = () => [500, '']
    expect(await keeping.callerOf(asked(cookie))).to.deep.equal({ id: 2 })
    // It is not kept the longer for being asked for.
    const briefly = await identityWith(0.3)
    answer = () => [200, '{"member":2}']
    for (let times = 0; times < 2; times += 1) {
      expect(await briefly.callerOf(asked(cookie))).to.deep.equal({ id: 2 })
      await new Promise((resolve) => setTimeout(resolve, 200))
    }
    answer = () => [500, '']
    expect(await refusalOf(briefly.callerOf(asked(cookie)))).to.include({ status: 503 })
    expect(await refusalOf(keeping.callerOf(asked({ cookie: 'sid=other' })))).to.include({ status: 503 })
  })
})
