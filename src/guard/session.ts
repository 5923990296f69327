import { asideOf, type Cache, type KeyValues } from '../model/index.js'
import type { Caller, Rulebook } from '../rules/index.js'
import { type Backend, type Bindings, type Given, keySlot, type Place, type Plan } from './backend.js'
import type { Decision } from './decision.js'
import { UnreadError } from './errors.js'
import type { PlanKinds, PlanName } from './plans.js'
import type { Validators } from './validators.js'

/** One caller at work: the rules, the database, who it is and what time it is. */
export interface Session {
  readonly rulebook: Rulebook
  readonly backend: Backend
  /** Where plans are run: the store itself, or a transaction. */
  readonly place: Place
  readonly caller: Caller
  readonly clock: () => Date
  /** Ends whatever is asked of the store early. */
  readonly signal?: AbortSignal
  readonly validators: Validators
  /** What was worked out, for callers of all shapes. */
  readonly plans: Cache<PlanKinds[keyof PlanKinds]>
  /** What plans depend on of the caller. */
  readonly shape: string
  /** Told of every decision; nothing where nobody listens. */
  readonly onDecision?: (decision: Decision) => void
}

/** Runs a plan with the caller's, the clock's and the given values. */
export function run<T>(session: Session, plan: Plan<T>, given: Given = NOTHING, now?: Date): T | Promise<T> {
  return plan.run(session.place, bindingsOf(session, given, now))
}

const NOTHING: Given = Object.freeze({})

/** The same at work on what is done already, which is told: it cannot be called off any more. */
export function lasting({ ...session }: Session): Session {
  delete (session as { signal?: AbortSignal }).signal
  return session
}

/** What a plan is run with. */
export const bindingsOf = ({ caller, clock, signal }: Session, given: Given, now?: Date): Bindings => ({
  caller,
  clock: now ? () => now : clock,
  given,
  ...(signal && { signal }),
})

/** Runs work in a transaction, all or nothing; inside another transaction, in a part of it. */
export async function atomically<T>(session: Session, work: (inside: Session) => Promise<T>): Promise<T> {
  session.signal?.throwIfAborted()
  try {
    return await session.place.transaction(async (place) => {
      const done = await work({ ...session, place })
      // The last moment: whatever comes after it, it is done.
      session.signal?.throwIfAborted()
      return done
    })
  } catch (error) {
    // What was written and could not be read is taken back with all else.
    throw error instanceof UnreadError ? asideOf(error).cause : error
  }
}

/** What was worked out for callers of this shape before, or is now. */
export function planned<K extends keyof PlanKinds>(
  { plans, shape }: Session,
  kind: K,
  name: PlanName,
  make: () => PlanKinds[K],
): PlanKinds[K] {
  const text = textOf(kind, name)
  return (plans.find(shape, text) ?? plans.keep(shape, text, make())) as PlanKinds[K]
}

/** A name as text, so that no two are ever one, whatever stands in them; written at every request. */
function textOf(kind: string, name: PlanName): string {
  let text = kind
  for (const part of name) text += typeof part === 'object' ? listed(part) : written(part)
  return text
}

const written = (part: string | number | boolean | undefined): string =>
  typeof part === 'string' ? `|${part.length}:${part}` : `|${part}`

/** Names in a list; what else was asked, as JSON. */
function listed(part: object): string {
  if (!Array.isArray(part)) return `|${JSON.stringify(part)}`
  let text = `|[${part.length}`
  for (const each of part as readonly string[]) text += written(each)
  return text
}

/** The parts of one key or several under the names that their slots have. */
export function keySlots(...keys: readonly KeyValues[]): Record<string, unknown> {
  const slots: Record<string, unknown> = {}
  for (let at = 0; at < keys.length; at += 1) {
    const key = keys[at] as KeyValues
    for (const name in key) slots[keySlot(name, at)] = key[name]
  }
  return slots
}
