import type { Condition } from '../condition/index.js'
import type { Answers, Listing, Piece, Plan, ReadRecord, WritePlan } from './backend.js'
import type { Asked } from './ask.js'
import type { Facts } from '../decide/index.js'

/** What is worked out once for all callers of a shape, by kind. */
export interface PlanKinds {
  /** Whether an action is closed, whatever the record. */
  readonly closed: { readonly is: boolean }
  /** When each field of a table's records is seen. */
  readonly masks: ReadonlyMap<string, Condition>
  /** A list; nothing where no record can come. */
  readonly list: { readonly plan: Listing | undefined }
  readonly count: { readonly plan: Plan<number> | undefined }
  readonly exists: { readonly plan: Plan<boolean> | undefined }
  readonly get: { readonly plan: Plan<readonly ReadRecord[]> | undefined }
  readonly create: PlannedWrite | Vain
  readonly change: PlannedWrite | Vain
  readonly remove: PlannedWrite | Vain
  readonly lock: Plan<boolean>
  readonly refer: Plan<void>
  readonly ask: Plan<Answers | undefined>
  readonly askNew: Plan<Facts>
  readonly piece: Piece
  /** Whatever might let a caller of the shape do an action. */
  readonly through: readonly string[]
}

/** A write, and whether its condition looks at other records than the one it is about. */
export interface PlannedWrite {
  readonly plan: WritePlan
  readonly condition: Condition
  readonly rests: boolean
}

/** A write that can never be done, whatever the record. */
interface Vain {
  readonly plan: undefined
}

/** What of it is meant: tables, actions, fields and what was asked, in their order. */
export type PlanName = readonly (string | number | boolean | undefined | readonly string[] | Asked)[]

/** What a plan weighs beside itself. */
const PLAIN = 1_000

/** How many bytes something kept takes, about: a name tells what was asked, and what is kept for it is some times as long. */
export function weighPlan(kept: PlanKinds[keyof PlanKinds], name: string): number {
  const { plan = kept } = kept as { readonly plan?: unknown }
  return PLAIN + 8 * name.length + ((plan as { readonly bytes?: number }).bytes ?? 0)
}
