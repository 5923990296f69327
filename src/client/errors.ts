import { PachterError } from '../model/index.js'

/** What went wrong, as the server tells it (RFC 9457). */
export interface ToldProblem {
  readonly type?: string
  readonly title?: string
  readonly status: number
  readonly detail: string
  readonly errors?: readonly { readonly pointer: string; readonly detail: string }[]
}

const URN = 'urn:pachter:problem:'

/**
 * The server refused, or could not answer. `code` is what its problem says, such as `forbidden`, `not-found`, `changed`,
 * `sign-in-required` or `credentials-refused`; `answer-unreadable` where something else answered, `unreachable` where no answer came
 * at all, and then `status` is 0.
 */
export class AnswerError extends PachterError {
  readonly code: string
  readonly status: number
  /** What is wrong with each field that was sent, by its name. */
  readonly fields: Readonly<Record<string, string>>

  constructor(readonly problem: ToldProblem) {
    super(problem.detail)
    this.code = codeOf(problem)
    this.status = problem.status
    this.fields = Object.fromEntries(
      (problem.errors ?? []).map(({ pointer, detail }) => [nameIn(pointer), detail] as const),
    )
  }

  /** Whether whoever asked has to sign in, for the first time or again. */
  get needsSignIn(): boolean {
    return this.status === 401
  }
}

/** What the server itself says; of what stands in between, only that it does. */
function codeOf({ type, status }: ToldProblem): string {
  if (type?.startsWith(URN)) return type.slice(URN.length)
  return status === 0 ? 'unreachable' : 'answer-unreadable'
}

/** `#/title` names the field title (RFC 6901). */
const nameIn = (pointer: string): string =>
  decodeURIComponent(pointer.replace(/^#[/]/, '')).replaceAll('~1', '/').replaceAll('~0', '~')

/** What an answer that is none of the records says went wrong; a server in between answers with pages of its own. */
export async function problemIn(response: Response): Promise<ToldProblem> {
  const { status, headers } = response
  if (!headers.get('content-type')?.startsWith('application/problem+json')) return unreadable(response, status)
  const told = (await response.json()) as Partial<ToldProblem>
  return { detail: `The server answered ${status}.`, ...told, status }
}

/**
 * What an answer holds, as JSON.
 *
 * @throws {AnswerError} where it holds something else, as a page does that is served for whatever nothing else is served for
 */
export async function jsonIn<T>(response: Response): Promise<T> {
  if (response.headers.get('content-type')?.includes('json')) return (await response.json()) as T
  throw otherwise(response, 'JSON')
}

/** Something answered that is not what is asked. */
export const otherwise = (response: Response, wanted: string): AnswerError =>
  new AnswerError(unreadable(response, `with something else than ${wanted}`))

const unreadable = ({ status, url }: Response, answered: string | number): ToldProblem => ({
  type: `${URN}answer-unreadable`,
  status: status < 400 ? 404 : status,
  detail: `${url === '' ? 'The server' : new URL(url).pathname} answered ${answered}; is it served there?`,
})

/** No answer came. */
export const unreachable = (): AnswerError => new AnswerError({ status: 0, detail: 'The server could not be reached.' })

/** These values could not be sent, and the server would not take them. */
export const misfit = (table: string, problems: Readonly<Record<string, string>>): AnswerError =>
  new AnswerError({
    type: `${URN}input-invalid`,
    status: 422,
    detail: `These values do not fit ${table}.`,
    errors: Object.entries(problems).map(([name, detail]) => ({ pointer: `#/${name}`, detail })),
  })
