import { whoName } from '../decide/index.js'
import { inFull, PachterError, readKey, tableOf } from '../model/index.js'
import { type Action, expand, grantsFor, inForce, specialise, whoCondition } from '../rules/index.js'
import type { Decision } from './decision.js'
import { planned, type Session } from './session.js'
import { inquire } from './verdicts.js'

/** What a call is about. */
export interface Call {
  readonly method: string
  readonly action: Action
  readonly table: string
  readonly key?: unknown
}

/** Tells of something that is only handed out, such as a filter. */
export function announce(session: Session, call: Call): void {
  if (!session.onDecision) return warn(session, call)
  const { action, table } = call
  tell(session, call, performance.now(), {
    outcome: 'allowed',
    status: 200,
    through: whatMightLet(session, action, table),
  })
}

/** Waits until the backend knows what has to be known. */
export async function gotReady({ backend, place }: Session): Promise<void> {
  if (!backend.isReady) await backend.getReady(place)
}

/** Runs a call and tells what came of it. Where nobody listens, the call is all that happens. */
export function told<T>(session: Session, call: Call, work: () => Promise<T>): Promise<T> {
  try {
    tableOf(session.rulebook.model, call.table)
  } catch (error) {
    return Promise.reject(error as Error)
  }
  if (session.onDecision) return timed(session, call, work)
  warn(session, call)
  const { backend, place } = session
  return backend.isReady ? work() : backend.getReady(place).then(work)
}

async function timed<T>(session: Session, call: Call, work: () => Promise<T>): Promise<T> {
  const start = performance.now()
  try {
    await gotReady(session)
    // What lets a write through is asked before: afterwards, it may no longer be so.
    const through = await whatLets(session, call)
    const done = await work()
    tell(session, call, start, { outcome: 'allowed', status: 200, through })
    return done
  } catch (error) {
    if (session.signal?.aborted && error === session.signal.reason) {
      tell(session, call, start, { outcome: 'aborted', status: 0, through: [] })
      throw error
    }
    const status = error instanceof PachterError ? (error as { status?: number }).status : undefined
    tell(session, call, start, {
      outcome: status !== undefined && status < 500 ? 'refused' : 'failed',
      status: status ?? 500,
      through: [],
      message: inFull(error),
    })
    throw error
  }
}

function tell(
  { onDecision, caller }: Session,
  call: Call,
  start: number,
  result: Pick<Decision, 'outcome' | 'status' | 'through' | 'message'>,
): void {
  const { trusted, signedIn, roles, attributes, channel } = caller
  const decision: Decision = {
    caller: { signedIn, roles, attributes, ...(channel !== undefined && { channel }) },
    ...(trusted !== undefined && { trusted }),
    ...call,
    ...result,
    milliseconds: performance.now() - start,
  }
  // What was decided and done does not depend on whether it could be written down.
  try {
    const heard: unknown = onDecision?.(decision)
    if (heard instanceof Promise) heard.catch(warnOfListener)
  } catch (error) {
    warnOfListener(error)
  }
}

function warnOfListener(error: unknown): void {
  console.error('pachter: onDecision failed:', error)
}

/** Trusted code is never silent: where nobody listens, the console hears of it. */
function warn({ caller: { trusted } }: Session, { method, table }: Call): void {
  if (trusted !== undefined) console.warn(`pachter: ${method} of ${table} without rules: ${trusted}`)
}

async function whatLets(session: Session, { action, table, key }: Call): Promise<readonly string[]> {
  const { rulebook, caller } = session
  if (caller.trusted !== undefined) return []
  if (key === undefined || Array.isArray(key)) {
    return planned(session, 'through', [action, table], () => whatMightLet(session, action, table))
  }
  const { verdict } = await inquire(session, { rulebook, table, action, caller }, readKey(rulebook.model, table, key))
  const held = verdict.grants.filter(({ holds }) => holds)
  return [...new Set(held.flatMap(({ to }) => to.filter(({ holds }) => holds).map(({ who }) => who)))]
}

function whatMightLet({ rulebook, caller }: Session, action: Action, table: string): readonly string[] {
  const rules = inForce(rulebook, table)
  const who = grantsFor(rules, action).flatMap(({ to }) => to)
  const open = who.filter((each) => specialise(expand(rulebook, whoCondition(rules, each)), caller).kind !== 'never')
  return [...new Set(open.map(whoName))]
}
