import { noteAside, PachterError } from '../model/index.js'

/**
 * The credentials of a request are not accepted: expired, forged, meant for others, or of somebody who is not known here.
 * HTTP status 401. Why is for the developer alone: `inFull`.
 */
export class CredentialsError extends PachterError {
  readonly code = 'credentials-refused'
  readonly status = 401

  /** @param reason why, for the developer */
  constructor(reason: string) {
    super('These credentials are not accepted; sign in again.')
    noteAside(this, { hint: reason })
  }
}

/**
 * Who asks cannot be found out at the moment, since whoever could say so does not answer. HTTP status 503: the request is
 * refused, and never taken for that of nobody.
 */
export class IdentityUnavailableError extends PachterError {
  readonly code = 'identity-unavailable'
  readonly status = 503
  /** After how many seconds to try again. */
  readonly retryAfter = 5

  /** @param cause what happened, for the developer */
  constructor(cause: unknown) {
    super('Who you are cannot be checked at the moment; try again shortly.')
    noteAside(this, { cause })
  }
}

/** A write came with a cookie, but not from a page of this site. HTTP status 403. Nothing was done. */
export class ForgeryError extends PachterError {
  readonly code = 'request-forged'
  readonly status = 403

  /** @param reason why, for the developer */
  constructor(reason: string) {
    super('This request does not come from a page of this site, or its page was opened before the last sign-in.')
    noteAside(this, { hint: reason })
  }
}

/** How identity is set up cannot work. Thrown at the start, before any request. */
export class IdentityConfigError extends PachterError {
  readonly code = 'identity-misconfigured'
}

/** Whoever looks as somebody else can change nothing. Nothing was run. */
export class LookingError extends PachterError {
  readonly code = 'forbidden'
  readonly status = 403
}
