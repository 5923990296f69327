import { asideOf, InputError, noteAside, PachterError } from '../model/index.js'
import type { Verdict } from './verdict.js'

/** What a caller is told of a refusal, and no more: where a record is hidden, it is as if there were none. */
export interface Told {
  readonly status: 401 | 403 | 404
  readonly message: string
  /** Why fields may not be set, by field. */
  readonly fields: Readonly<Record<string, string>>
}

/**
 * Something was refused. The error holds what the caller may be told, so that it can be sent as it is;
 * {@link verdictOf} says why in full, for the developer.
 */
export abstract class RefusedError extends PachterError {
  abstract readonly status: 401 | 403 | 404

  constructor({ message }: Told) {
    super(message)
  }
}

/** The caller has to sign in first: some caller who has might be allowed. */
export class SignInError extends RefusedError {
  readonly code = 'sign-in-required'
  readonly status = 401
}

/** The caller may know of the record, but not do this. */
export class ForbiddenError extends RefusedError {
  readonly code = 'forbidden'
  readonly status = 403
  /** Why fields may not be set, by field; empty where the refusal is not about fields. */
  readonly fields: Readonly<Record<string, string>>

  constructor(told: Told) {
    super(told)
    this.fields = told.fields
  }
}

/** There is no such record for this caller, whether or not there is one for others. */
export class NotFoundError extends RefusedError {
  readonly code = 'not-found'
  readonly status = 404
}

/** The error that fits a verdict of refusal. */
export function refusal(verdict: Verdict): RefusedError | InputError {
  const hints = [...hintOnValues(verdict), ...hintOnChecks(verdict)]
  return noteAside(errorFor(verdict), { verdict, ...(hints.length > 0 && { hint: hints.join(' ') }) })
}

function hintOnValues({ table, withheld }: Verdict): readonly string[] {
  if (withheld.length === 0) return []
  return [
    `Whether ${withheld.join(', ')} would fit might tell of records that this caller does not see in full; table.conflicts('told') in the rules of ${table} lets it be told.`,
  ]
}

function hintOnChecks({ failed, invalid }: Verdict): readonly string[] {
  const untold = failed.filter(
    ({ told, fields, message }) => !told && fields.some((field) => invalid[field] !== message),
  )
  if (untold.length === 0) return []
  const names = untold.map(({ name }) => name).join(', ')
  return [`This caller is not told that further checks fail, which rest on what the caller does not see: ${names}.`]
}

function errorFor({ table, status, message, fields, invalid }: Verdict): RefusedError | InputError {
  if (status === 422 || status === 200) return new InputError(table, invalid)
  const told: Told = { status, message, fields }
  if (status === 401) return new SignInError(told)
  return status === 404 ? new NotFoundError(told) : new ForbiddenError(told)
}

/**
 * Why something was refused, in full: for the developer and the log, never for whoever asked.
 *
 * @param error what a guard threw
 * @returns the verdict; nothing where the error is not about a decision
 * @example
 * try { … } catch (error) { log.debug(verdictOf(error)?.denies) }
 */
export const verdictOf = (error: unknown): Verdict | undefined => asideOf<{ verdict: Verdict }>(error).verdict
