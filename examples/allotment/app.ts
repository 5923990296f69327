import express from 'express'
import { anonymous, createGuard } from 'pachter'
import { pinoDecisions } from 'pachter/guard/pino'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity, lookAs, memberRecord } from 'pachter/identity'
import { browserSignIn } from 'pachter/identity/sign-in'
import { bearerToken } from 'pachter/identity/token'
import { createLive, followTriggers } from 'pachter/live'
import type { SqlStore } from 'pachter/sql'
import { AUDIENCE, CLIENT } from './identity-provider.js'
import { pino } from 'pino'
import { model } from './model.js'
import { type caller, rules } from './rules.js'

/** Where the application is, and what it needs of its surroundings. */
export interface Surroundings {
  /** With the triggers that `pachter triggers install` puts there. */
  readonly store: SqlStore
  /** How browsers reach it. */
  readonly origin: string
  /** Its identity provider. */
  readonly issuer: string
  /** What seals its cookies. */
  readonly secret: string
  /** The built page. */
  readonly pageFolder: string
  /** Where decisions are written to; left out, nowhere. */
  readonly log?: string
}

/** Korenveld's web server: sign-in, the records of every table, lists that follow changes, and the pages. */
export async function createApp({ store: plain, origin, issuer, secret, pageFolder, log = '/dev/null' }: Surroundings) {
  const store = followTriggers(plain, model)
  const guard = createGuard({ rules, store, onDecision: pinoDecisions(pino(pino.destination(log))) })
  const member = memberRecord(guard, {
    table: 'members',
    field: 'email',
    claim: 'email',
    caller: ({ id }) => ({ id, channel: 'web' }),
    firstSignIn: ({ name }) => ({ name: String(name), duties: [], joinedAt: new Date() }),
  })
  const signIn = browserSignIn({
    issuer,
    clientId: CLIENT.id,
    clientSecret: CLIENT.secret,
    origin,
    secret,
    caller: member,
  })
  // Scripts have no browser: they come with a token, and are told apart by their channel.
  const script = bearerToken<typeof caller>({
    issuer,
    audience: AUDIENCE,
    caller: ({ sub }) => ({ id: Number(sub), channel: 'script' }),
  })
  // The secretary can look at the pages as any member does, or as a visitor, to answer who asks why.
  const seen = lookAs(guard, signIn.source, {
    role: 'secretary',
    caller: (named) => (named === 'visitor' ? anonymous : { id: Number(named), channel: 'web' }),
  })
  const identity = await createIdentity({ rules, sources: [script, seen] })
  const handler = createHandler({ guard, identity, title: 'Korenveld', pages: { signInAt: signIn.signInAt } })
  const live = await createLive({ handler, store })
  const { records, pages, refuse } = forExpress(handler)
  const signInPages = async (request: Request) => {
    const response = await signIn.handle(request)
    // Who signed out is not sent anything any more, in whatever window.
    if (request.method === 'POST') live.recheck()
    return response
  }
  const app = express()
    .use(records, pages(live.handle), pages(signInPages), express.static(pageFolder))
    // Every other address is one of the page's own.
    .get('/{*path}', (_request, response) => response.sendFile('index.html', { root: pageFolder }))
    .use(refuse)
  return { app, live }
}
