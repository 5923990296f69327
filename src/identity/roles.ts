import type { CallerDefinition, RoleOf, Rules } from '../rules/index.js'
import { IdentityConfigError } from './errors.js'
import type { Asking, Claims } from './source.js'

/** How many unknown groups are told of, each once. */
const TOLD = 1_000

/** Which groups of an identity provider have which roles. */
export interface GroupOptions<R extends string> {
  /** The claim that lists the groups. */
  readonly claim: string
  /** For a group, its role, or several. */
  readonly roles: Readonly<Record<string, R | readonly R[]>>
}

/**
 * Turns the groups that an identity provider says somebody is in into roles. Groups that have no role are ignored, and told of
 * once.
 *
 * @param rules the rules that say which roles there are
 * @returns the roles of whoever has these claims
 * @throws {IdentityConfigError} at once, where a role is none of the rules'
 * @example const roles = groupRoles(rules, { claim: 'groups', roles: { 'koren-money': 'treasurer' } })
 */
export function groupRoles<C extends CallerDefinition>(
  { caller }: Rules<unknown, C, unknown>,
  { claim, roles }: GroupOptions<RoleOf<C>>,
): (claims: Claims, asking: Pick<Asking, 'note'>) => readonly RoleOf<C>[] {
  const byGroup = new Map(Object.entries(roles).map(([group, of]) => [group, [of].flat() as readonly RoleOf<C>[]]))
  for (const [group, of] of byGroup) {
    for (const role of of) {
      if (caller.roles.includes(role)) continue
      const known = caller.roles.join(', ') || 'none'
      throw new IdentityConfigError(
        `The group ${group} is to have the role ${role}, which is none of the rules': ${known}.`,
      )
    }
  }
  const told = new Set<string>()
  return (claims, { note }) => {
    const listed: unknown = Object.hasOwn(claims, claim) ? claims[claim] : undefined
    const groups = (Array.isArray(listed) ? listed : [listed]).filter((group) => typeof group === 'string')
    for (const group of groups) {
      if (byGroup.has(group) || told.has(group) || told.size >= TOLD) continue
      told.add(group)
      note({ kind: 'group-unknown', group })
    }
    return [...new Set(groups.flatMap((group) => byGroup.get(group) ?? []))]
  }
}
