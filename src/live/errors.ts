import { PachterError } from '../model/index.js'

/** How lists are followed cannot work. Thrown at the start, before any list is. */
export class LiveConfigError extends PachterError {
  readonly code = 'live-misconfigured'
}
