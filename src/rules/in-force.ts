import {
  allOf,
  always,
  anyOf,
  type Condition,
  normalise,
  notOf,
  rewrite,
  RuleError,
  shift,
} from '../condition/index.js'
import { kept } from './kept.js'
import { changesRecord, type Grant, type Rulebook, type RulesInForce, rulesOf, type TableRules } from './rulebook.js'

/**
 * The rules of a table with what bars records from them put in its place: a fence, and what makes a record count as gone,
 * become part of each grant, and of each step that leads to such a record. Whatever enforces rules reads these; those
 * of a rulebook are as they were written.
 *
 * @throws {RuleError} where fences wait for one another in a circle
 */
export function inForce(rulebook: Rulebook, table: string): RulesInForce {
  const rules = rulesOf(rulebook, table)
  if (!hasBars(rulebook)) return rules as RulesInForce
  return kept(rulebook, 'in force', table, () => barred(rulebook, rules) as RulesInForce)
}

const barring = new WeakMap<Rulebook, boolean>()

function hasBars(rulebook: Rulebook): boolean {
  const known = barring.get(rulebook) ?? Object.values(rulebook.tables).some(({ fence, gone }) => fence ?? gone)
  barring.set(rulebook, known)
  return known
}

function barred(rulebook: Rulebook, rules: TableRules): TableRules {
  const within = (condition: Condition) => withBars(rulebook, condition, [])
  const fence = rules.fence ? within(rules.fence) : always
  const ties = mapValues(rules.ties, within)
  const ofGrant = (grant: Grant, changes: boolean): Grant => {
    const { to: whoever, when, gone } = grant
    const to = whoever.map((who) => (typeof who === 'string' ? who : within(who)))
    const own = when ? within(when) : always
    const whole = normalise(allOf(fence, gone ? always : thereIn(rules), own))
    // What a change takes out of sight is still the caller's to take.
    const leaves = rules.gone && !gone && changes
    const held = anyOf(...to.map((who) => (typeof who === 'string' ? (ties[who] ?? anyOf()) : who)))
    const outcome = grant.after ? within(grant.after) : leaves ? allOf(held, own) : undefined
    return {
      ...grant,
      to,
      ...(whole.kind !== 'always' && { when: whole }),
      ...(outcome && { after: normalise(allOf(fence, outcome)) }),
    }
  }
  return {
    ...rules,
    ties,
    grants: mapValues(rules.grants, (grants, action) =>
      grants.map((grant) => ofGrant(grant, changesRecord(rules, action))),
    ),
    denies: mapValues(rules.denies, (deny) => ({
      ...deny,
      when: within(deny.when),
      except: deny.except.map((who) => (typeof who === 'string' ? who : within(who))),
    })),
    checks: {
      ...rules.checks,
      records: mapValues(rules.checks.records, (check) => ({ ...check, that: within(check.that) })),
    },
  }
}

/** That a record does not count as gone. */
const thereIn = ({ gone }: TableRules): Condition => (gone ? notOf(gone.when) : always)

/** That the record a role is looked up in does not count as gone. */
export const isThere = (rulebook: Rulebook, table: string): Condition => thereIn(rulesOf(rulebook, table))

/** Lets no step lead to a record that a fence or its being gone bars. */
function withBars(rulebook: Rulebook, condition: Condition, path: readonly string[]): Condition {
  const inside = (part: Condition) => withBars(rulebook, part, path)
  if (condition.kind !== 'some') return rewrite(condition, { part: inside })
  const { table, to, where, chain, through = always } = condition
  const bar = shift(barOf(rulebook, table, path), to.level)
  // A chain ends before a record that is barred.
  if (chain !== undefined)
    return { ...condition, where: inside(where), through: normalise(allOf(bar, inside(through))) }
  return { ...condition, where: normalise(allOf(bar, inside(where))) }
}

function barOf(rulebook: Rulebook, table: string, path: readonly string[]): Condition {
  const rules = rulesOf(rulebook, table)
  if (!rules.fence) return thereIn(rules)
  if (path.includes(table)) {
    throw new RuleError(`fences wait for one another in a circle: ${[...path, table].join(', then ')}.`)
  }
  return allOf(withBars(rulebook, rules.fence, [...path, table]), thereIn(rules))
}

function mapValues<A, B>(all: Readonly<Record<string, A>>, change: (each: A, name: string) => B): Record<string, B> {
  return Object.fromEntries(Object.entries(all).map(([name, each]) => [name, change(each, name)]))
}
