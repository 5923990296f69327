import type { Problem } from './problem.js'

/** What a browser that asks for a page is answered where it is refused. */
export interface Pages {
  /** Where to sign in and come back, such as `signIn.signInAt`; left out, whoever has to sign in sees a page that says so. */
  readonly signInAt?: (backTo: string) => string
  /** The page, as HTML, for what was refused or is not there; left out, a plain one. */
  readonly refused?: (problem: Problem) => string
}

/** Whether a request asks for a page, as browsers do when somebody goes there. */
export function wantsPage({ method, headers }: Request): boolean {
  if (method !== 'GET' && method !== 'HEAD') return false
  const types = (headers.get('accept') ?? '').split(',').map((each) => each.split(';')[0]?.trim())
  const place = (type: string) => (types.includes(type) ? types.indexOf(type) : Infinity)
  return place('text/html') < place('application/json')
}

/** The plain page for a problem. */
export function plainPage({ title, detail }: Problem): string {
  return `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>${escaped(title)}</title>
<h1>${escaped(title)}</h1>
<p>${escaped(detail)}</p>
</html>
`
}

const ENTITIES: Readonly<Record<string, string>> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' }

const escaped = (text: string): string => text.replaceAll(/[&<>"]/g, (each) => ENTITIES[each] as string)

/**
 * What answers requests for pages, or leaves them to others. It may take the request as the server has it, which is that of the
 * server it was made for.
 */
export type AnswersPages = (request: Request, native: never) => Promise<Response | undefined>
