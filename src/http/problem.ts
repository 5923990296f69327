import { ForbiddenError } from '../decide/index.js'
import { BulkRefusedError } from '../guard/index.js'
import { InputError, PachterError } from '../model/index.js'

/** What went wrong, as RFC 9457 has it: all that whoever asked may know, and no more. */
export interface Problem {
  /** Stable over releases; match on this. */
  readonly type: string
  readonly title: string
  readonly status: number
  readonly detail: string
  /** What is wrong with each field that was sent. */
  readonly errors?: readonly FieldProblem[]
  /** Of a bulk write, what stood in the way of each record. */
  readonly records?: readonly RecordProblem[]
}

/** What is wrong with one field. */
export interface FieldProblem {
  /** Where in the body it stands, as RFC 6901 writes it, such as `#/title`. */
  readonly pointer: string
  readonly detail: string
}

/** What stood in the way of one record. */
export interface RecordProblem {
  /** Its key; of a record to be created, its place among those sent, counted from 0. */
  readonly key: unknown
  readonly status: number
  readonly detail: string
}

/** The kinds of problems, by `code` of the error: what `type` says, and a title. */
const KINDS: Readonly<Record<string, string>> = {
  'credentials-refused': 'Credentials not accepted',
  'sign-in-required': 'Sign in',
  forbidden: 'Forbidden',
  'request-forged': 'Forged request',
  'not-found': 'Not found',
  'name-unknown': 'Unknown name',
  'input-invalid': 'Values do not fit',
  'limit-exceeded': 'Too much',
  conflict: 'Conflict',
  changed: 'Changed since',
  'bulk-refused': 'Nothing was written',
  'identity-unavailable': 'Try again',
  'path-unknown': 'No such path',
  'method-not-allowed': 'Method not allowed',
  'not-acceptable': 'Not acceptable',
  'body-invalid': 'Body cannot be read',
  'body-too-large': 'Body too large',
  'media-type-unsupported': 'Media type not supported',
  'query-invalid': 'Query cannot be read',
  'address-too-long': 'Address too long',
  'repeat-running': 'Still running',
  'repeat-differs': 'Key used before',
  'too-many-streams': 'Too many streams',
  'server-failed': 'Server failed',
}

const URN = 'urn:pachter:problem:'

/** The addresses of all kinds of problems, for descriptions. */
export const PROBLEM_TYPES = Object.keys(KINDS).map((code) => `${URN}${code}`)

const FAILED = { code: 'server-failed', status: 500, message: 'Something went wrong on the server.' } as const

/**
 * What may be told of an error. An error of this library with a status below 500 holds what its caller may be told; of any
 * other, nothing is.
 *
 * @param error anything that was thrown
 */
export function problemOf(error: unknown): Problem {
  const { code, status, message } = isTold(error) ? error : FAILED
  return {
    type: `${URN}${code}`,
    title: KINDS[code] as string,
    status,
    detail: message,
    ...fieldsOf(error),
    ...(error instanceof BulkRefusedError && { records: error.refusals.map(recordProblem) }),
  }
}

const recordProblem = ({ key, status, message }: BulkRefusedError['refusals'][number]): RecordProblem => ({
  key,
  status,
  detail: message,
})

interface Told extends PachterError {
  readonly status: number
}

/** Whether an error says what its caller may be told. */
function isTold(error: unknown): error is Told {
  if (!(error instanceof PachterError) || !Object.hasOwn(KINDS, error.code)) return false
  const { status } = error as { readonly status?: unknown }
  return typeof status === 'number' && (status < 500 || status === 503)
}

function fieldsOf(error: unknown): { readonly errors?: readonly FieldProblem[] } {
  const fields = error instanceof InputError || error instanceof ForbiddenError ? Object.entries(error.fields) : []
  if (fields.length === 0) return {}
  return { errors: fields.map(([name, detail]) => ({ pointer: `#/${escaped(name)}`, detail })) }
}

/** A name in a JSON pointer, in the form of a fragment. */
const escaped = (name: string): string => encodeURIComponent(name.replaceAll('~', '~0').replaceAll('/', '~1'))
