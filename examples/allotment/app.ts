import express from 'express'
import { createGuard, type Store } from 'pachter'
import { pinoDecisions } from 'pachter/guard/pino'
import { createHandler } from 'pachter/http'
import { forExpress } from 'pachter/http/express'
import { createIdentity, memberRecord } from 'pachter/identity'
import { browserSignIn } from 'pachter/identity/sign-in'
import { bearerToken } from 'pachter/identity/token'
import { AUDIENCE, CLIENT } from './identity-provider.js'
import { pino } from 'pino'
import { type caller, rules } from './rules.js'

/** Where the application is, and what it needs of its surroundings. */
export interface Surroundings {
  readonly store: Store
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

/** Korenveld's web server: sign-in, the records of every table, and the page. */
export async function createApp({ store, origin, issuer, secret, pageFolder, log = '/dev/null' }: Surroundings) {
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
  const identity = await createIdentity({ rules, sources: [script, signIn.source] })
  const handler = createHandler({ guard, identity, title: 'Korenveld', pages: { signInAt: signIn.signInAt } })
  const { records, pages, refuse } = forExpress(handler)
  return express().use(records, pages(signIn.handle), express.static(pageFolder), refuse)
}
