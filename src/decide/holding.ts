import type { NamedDeny, PlacedGrant } from '../rules/index.js'
import { denyId, type Facts, type Moment, whenId, whoId } from './questions.js'

/** Prepares to say of a grant whether it holds, by the facts. */
export function holding(grant: PlacedGrant, moment: Moment = 'before'): (facts: Facts) => boolean {
  const to = grant.to.map((who) => whoId(who, moment))
  const when = grant.when && whenId(grant, moment)
  return (facts) => to.some(facts) && (when === undefined || facts(when))
}

/** Prepares to say of a deny whether it strikes, by the facts: what it forbids is the case, and the caller is not exempt. */
export function striking({ name, except }: NamedDeny): (facts: Facts) => boolean {
  const id = denyId(name)
  const exempt = except.map((who) => whoId(who))
  return (facts) => facts(id) && !exempt.some(facts)
}
