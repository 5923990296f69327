import { PachterError } from '../model/index.js'

/** A request that cannot be understood, whoever sends it. Nothing was run. */
export class RequestError extends PachterError {
  /**
   * @param status the HTTP status
   * @param code what is wrong, for programs
   * @param message what is wrong, for people
   * @param headers what the answer says besides, such as `Allow`
   */
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly headers: Readonly<Record<string, string>> = {},
  ) {
    super(message)
  }
}

/** How a handler is set up cannot work. Thrown at the start, before any request. */
export class HttpConfigError extends PachterError {
  readonly code = 'http-misconfigured'
}

/** A query string that cannot be understood. */
export const badQuery = (message: string): RequestError => new RequestError(400, 'query-invalid', message)

/** A body that cannot be understood. */
export const badBody = (message: string): RequestError => new RequestError(400, 'body-invalid', message)
