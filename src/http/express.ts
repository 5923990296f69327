import type {
  ErrorRequestHandler,
  Request as ExpressRequest,
  RequestHandler,
  Response as ExpressResponse,
} from 'express'
import type { CallerDefinition } from '../rules/index.js'
import type { Handler } from './handler.js'
import { type Exchange, requestsOf, send, toWholeRequest } from './node.js'
import type { AnswersPages } from './pages.js'
import { admissions, type Admitted, type Requirement } from './require.js'

/** A handler in an Express application. */
export interface ForExpress<M, C, A> {
  /** Serves the records below the handler's base, and leaves all else to what comes after. In front of what parses bodies. */
  readonly records: RequestHandler
  /** Serves what answers with the web's `Response`, such as the pages of sign-in or live lists; nothing where it leaves it to others. */
  pages(answer: AnswersPages): RequestHandler
  /** Opens a route of your own to whoever meets all requirements; to anybody, where there are none. */
  open(...all: readonly Requirement<M, C, A>[]): RequestHandler
  /** The caller, the scoped store and the record of a request behind `open`. */
  of(request: ExpressRequest): Admitted<M, C, A>
  /** Answers what routes threw. Last of all. */
  readonly refuse: ErrorRequestHandler
}

/**
 * Puts a handler into an application of Express 5.
 *
 * @example
 * const { records, open, of, refuse } = forExpress(handler)
 * app.use(records)
 * app.get('/desk/:id', open(may('update', 'entries', 'id')), (request, response) => response.json(of(request).record))
 * app.use(refuse)
 */
export function forExpress<M, C extends CallerDefinition, A>(
  handler: Handler<M, C, A, ExpressRequest>,
): ForExpress<M, C, A> {
  const { admit, of } = admissions<ExpressRequest, M, C, A, ExpressRequest>(handler)
  const asked = requestsOf(exchangeOf)
  return {
    records: async (request, response, next) => {
      if (!request.originalUrl.startsWith(`${handler.base}/`)) return next()
      await send(await handler.handle(toWholeRequest(exchangeOf(request, response)), request), response)
    },
    pages: (answer) => async (request, response, next) => {
      const answered = await answer(asked(request, response), request as never)
      if (!answered) return next()
      await send(answered, response)
    },
    open:
      (...all) =>
      async (request, response, next) => {
        const opened = await handler.open(asked(request, response), request)
        const parameter = (name: string) => [request.params[name]].flat()[0]
        await admit(request, opened, all, parameter)
        next()
      },
    of,
    refuse: async (error: unknown, request, response, next) => {
      if (response.headersSent) return next(error)
      await send(await handler.refuse(error, asked(request, response)), response)
    },
  }
}

const exchangeOf = (incoming: ExpressRequest, outgoing: ExpressResponse): Exchange => ({
  incoming,
  outgoing,
  path: incoming.originalUrl,
})
