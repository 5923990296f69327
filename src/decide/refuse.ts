import { InputError, PachterError } from '../model/index.js'
import type { Verdict } from './verdict.js'

/** Something was refused. `verdict` says why in full, for the developer; `message` is fit for the caller. */
export abstract class RefusedError extends PachterError {
  abstract readonly status: 401 | 403 | 404

  constructor(readonly verdict: Verdict) {
    super(verdict.message)
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
  get fields(): Readonly<Record<string, string>> {
    return this.verdict.fields
  }
}

/** There is no such record for this caller, whether or not there is one for others. */
export class NotFoundError extends RefusedError {
  readonly code = 'not-found'
  readonly status = 404
}

/** The error that fits a verdict of refusal. */
export function refusal(verdict: Verdict): RefusedError | InputError {
  if (verdict.status === 422) return new InputError(verdict.table, verdict.invalid)
  if (verdict.status === 401) return new SignInError(verdict)
  return verdict.status === 404 ? new NotFoundError(verdict) : new ForbiddenError(verdict)
}
