import type { FastifyPluginCallback, FastifyReply, FastifyRequest, preHandlerAsyncHookHandler } from 'fastify'
import type { CallerDefinition } from '../rules/index.js'
import type { Handler } from './handler.js'
import { bodyOf, type Exchange, isStream, requestsOf, streamOf, toWholeRequest } from './node.js'
import type { AnswersPages } from './pages.js'
import { admissions, type Admitted, type Requirement } from './require.js'

/** A handler in a Fastify application. */
export interface ForFastify<M, C, A> {
  /** Serves the records below the handler's base. */
  readonly records: FastifyPluginCallback
  /** Serves what answers with the web's `Response`, such as the pages of sign-in or live lists, below a path; 404 where it does not. */
  pages(path: string, answer: AnswersPages): FastifyPluginCallback
  /** Opens a route of your own to whoever meets all requirements; to anybody, where there are none. */
  open(...all: readonly Requirement<M, C, A>[]): preHandlerAsyncHookHandler
  /** The caller, the scoped store and the record of a request behind `open`. */
  of(request: FastifyRequest): Admitted<M, C, A>
  /** Answers what routes threw. */
  readonly refuse: (error: unknown, request: FastifyRequest, reply: FastifyReply) => Promise<FastifyReply>
}

/**
 * Puts a handler into an application of Fastify 5.
 *
 * @example
 * const { records, open, of, refuse } = forFastify(handler)
 * app.register(records)
 * app.get('/desk/:id', { preHandler: open(may('update', 'entries', 'id')) }, (request) => of(request).record)
 * app.setErrorHandler(refuse)
 */
export function forFastify<M, C extends CallerDefinition, A>(
  handler: Handler<M, C, A, FastifyRequest>,
): ForFastify<M, C, A> {
  const { admit, of } = admissions<FastifyRequest, M, C, A, FastifyRequest>(handler)
  const asked = requestsOf(exchangeOf)
  const below = (path: string, serve: (request: FastifyRequest, reply: FastifyReply) => Promise<Response>) =>
    ((app, _options, done) => {
      // Bodies are left unread, for those who count their bytes and their names.
      app.removeAllContentTypeParsers()
      app.addContentTypeParser('*', (_request, _body, ready) => ready(null))
      const answer = async (request: FastifyRequest, reply: FastifyReply) => send(await serve(request, reply), reply)
      for (const each of [path, `${path}/*`]) app.all(each, answer)
      done()
    }) satisfies FastifyPluginCallback
  return {
    records: below(handler.base, (request, reply) =>
      handler.handle(toWholeRequest(exchangeOf(request, reply)), request),
    ),
    pages: (path, answer) =>
      below(path, async (request, reply) => {
        const given = asked(request, reply)
        return (await answer(given, request as never)) ?? handler.handle(given, request)
      }),
    open:
      (...all) =>
      async (request, reply) => {
        const opened = await handler.open(asked(request, reply), request)
        const parameters = request.params as Readonly<Record<string, string>>
        await admit(request, opened, all, (name) => parameters[name])
      },
    of,
    refuse: async (error, request, reply) => send(await handler.refuse(error, asked(request, reply)), reply),
  }
}

/** Sends an answer of the web, so that hooks of other plugins see it, and what they said stays. */
async function send(response: Response, reply: FastifyReply): Promise<FastifyReply> {
  for (const [name, value] of response.headers) {
    const before = name === 'vary' ? reply.getHeader(name) : undefined
    reply.header(name, before === undefined ? value : `${String(before)}, ${value}`)
  }
  return reply.code(response.status).send(isStream(response) ? streamOf(response) : await bodyOf(response))
}

const exchangeOf = ({ raw }: FastifyRequest, { raw: outgoing }: FastifyReply): Exchange => ({
  incoming: raw,
  outgoing,
  path: raw.url,
})
