import express, { type NextFunction, type Request, type Response } from 'express'
import { type Guard, InputError, type KeyOf, RefusedError, UnknownNameError } from 'pachter'
import { about, callers } from './callers.js'
import type { model } from './model.js'
import type { caller } from './rules.js'

type DemoGuard = Guard<typeof model, typeof caller>
type CallerName = keyof typeof callers
type Table = 'entries' | 'jobs'

const TABLES: readonly string[] = ['entries', 'jobs'] satisfies readonly Table[]

/**
 * The demo's web server: records of two tables, each request as the caller it names, and the page.
 *
 * @param guard the rules and the store
 * @param pageFolder the built page
 */
export function createApp(guard: DemoGuard, pageFolder: string) {
  const app = express()
  app.use(express.json())
  app.use(express.static(pageFolder))
  app.get('/api/callers', (_, response) => {
    response.json(Object.entries(about).map(([name, description]) => ({ name, description })))
  })
  app.route('/api/:table').get(async (request, response) => {
    response.json(await scoped(request).list(tableIn(request), { access: true }))
  })
  app
    .route('/api/:table/:key')
    .get(async (request, response) => {
      response.json(await scoped(request).get(tableIn(request), keyIn(request)))
    })
    .patch(async (request, response) => {
      response.json(await scoped(request).update(tableIn(request), keyIn(request), request.body))
    })
    .delete(async (request, response) => {
      await scoped(request).delete(tableIn(request), keyIn(request))
      response.status(204).end()
    })
  app.use(sendProblem)
  return app

  /** A real app would read a session or a token here; the demo takes the caller's word for it. */
  function scoped(request: Request) {
    const name = request.get('x-caller') ?? 'nobody'
    if (!Object.hasOwn(callers, name)) throw new UnknownNameError('caller', name, Object.keys(callers))
    return guard.as(callers[name as CallerName])
  }
}

function tableIn({ params }: Request): Table {
  const table = String(params['table'])
  if (!TABLES.includes(table)) throw new UnknownNameError('table', table, TABLES)
  return table as Table
}

const keyIn = ({ params }: Request): KeyOf<typeof model, Table> => Number(params['key'])

/** Answers with problem details, as RFC 9457 has them. */
function sendProblem(error: unknown, _request: Request, response: Response, _next: NextFunction): void {
  const { status, title } = problemOf(error)
  if (status === 500) console.error(error)
  const detail = status === 500 || !(error instanceof Error) ? 'Something went wrong on the server.' : error.message
  const fields = error instanceof InputError ? error.fields : undefined
  response.status(status).type('application/problem+json').json({ title, status, detail, fields })
}

function problemOf(error: unknown): { status: number; title: string } {
  if (error instanceof RefusedError) return { status: error.status, title: error.code }
  if (error instanceof InputError) return { status: error.status, title: error.code }
  if (error instanceof UnknownNameError) return { status: 404, title: error.code }
  return { status: 500, title: 'error' }
}
