import type { Action, Caller } from '../rules/index.js'

/** One decision of a guard, for a log. */
export interface Decision {
  /** Who asked: the caller's attributes, roles and channel; for trusted code, its reason. */
  readonly caller: Pick<Caller, 'signedIn' | 'roles' | 'attributes' | 'channel'>
  /** Why the rules did not bind the caller, where they did not. */
  readonly trusted?: string
  /** The method called, such as `updateMany`. */
  readonly method: string
  readonly action: Action
  readonly table: string
  /** The key of the record, or the keys; none where the question is about the whole table. */
  readonly key?: unknown
  /** `failed` is an error while deciding, which is a refusal, too; `aborted` was called off by a signal. */
  readonly outcome: 'allowed' | 'refused' | 'failed' | 'aborted'
  /** The HTTP status that fits; of what was aborted, nobody waits for one, and it is 0. */
  readonly status: number
  /** What let the caller: ties, roles, `signed in` or `anyone`; for a whole table, whatever might. */
  readonly through: readonly string[]
  /** Why it was not done, where it was not: in full, for the log. */
  readonly message?: string
  readonly milliseconds: number
}
