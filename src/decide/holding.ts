import type { PlacedGrant } from '../rules/index.js'
import { type Facts, type Moment, whenId, whoId } from './questions.js'

/** Prepares to say of a grant whether it holds, by the facts. */
export function holding(grant: PlacedGrant, moment: Moment = 'before'): (facts: Facts) => boolean {
  const to = grant.to.map((who) => whoId(who, moment))
  const when = grant.when && whenId(grant, moment)
  return (facts) => to.some(facts) && (when === undefined || facts(when))
}
