import { always } from '../../condition/index.js'
import { denyId, type Facts, whenId, whoId, whoName } from '../../decide/index.js'
import { type Deny, type Grant, type Rulebook, rulesOf, type TableRules } from '../../rules/index.js'

/** A rulebook and facts as they would be if one thing had come out otherwise. */
export interface Supposed {
  readonly rulebook: Rulebook
  facts(facts: Facts): Facts
}

/** One thing in a table's rules that can decide. */
export interface Element {
  readonly table: string
  readonly kind: 'tie' | 'grant' | 'condition' | 'fields' | 'deny' | 'exemption'
  readonly name: string
  /** As if it held, and as if it did not. */
  readonly held: Supposed
  readonly failed: Supposed
}

/** Everything in a table's rules that can decide what comes out, but checks, which look at values alone. */
export function elementsOf(rulebook: Rulebook, table: string): readonly Element[] {
  const rules = rulesOf(rulebook, table)
  const plain: Supposed = { rulebook, facts: (facts) => facts }
  const byFact = (ids: readonly string[], is: boolean): Supposed => ({
    ...plain,
    facts: (facts) => (id) => (ids.includes(id) ? is : facts(id)),
  })
  const byRules = (changed: TableRules): Supposed => ({
    rulebook: { ...rulebook, tables: { ...rulebook.tables, [table]: changed } },
    facts: (facts) => (id) => isAlways(id) || facts(id),
  })
  const ties = Object.keys(rules.ties).map((name): Element => {
    const ids = [whoId(name), whoId(name, 'after')]
    return { table, kind: 'tie', name, held: byFact(ids, true), failed: byFact(ids, false) }
  })
  const grants = Object.entries(rules.grants).flatMap(([action, all]) =>
    all.flatMap((grant, index) => {
      const instead = (changed: Grant) =>
        byRules({ ...rules, grants: { ...rules.grants, [action]: all.with(index, changed) } })
      const name = `${action} to ${grant.to.map(whoName).join(', ')}${all.length > 1 ? ` (grant ${index + 1})` : ''}`
      return grantElements(table, name, { ...grant, action, index }, instead, byFact)
    }),
  )
  const denies = Object.entries(rules.denies).flatMap(([name, deny]): Element[] => {
    const exempting = (except: Deny['except']) =>
      byRules({ ...rules, denies: { ...rules.denies, [name]: { ...deny, except } } })
    const exemption = { held: exempting([always]), failed: exempting([]) }
    return [
      { table, kind: 'deny', name, held: byFact([denyId(name)], true), failed: byFact([denyId(name)], false) },
      ...(deny.except.length > 0 ? [{ table, kind: 'exemption' as const, name: `from ${name}`, ...exemption }] : []),
    ]
  })
  return [...ties, ...grants, ...denies]
}

function grantElements(
  table: string,
  name: string,
  { action, index, ...grant }: Grant & { readonly action: string; readonly index: number },
  instead: (changed: Grant) => Supposed,
  byFact: (ids: readonly string[], is: boolean) => Supposed,
): readonly Element[] {
  const { when, fields, ...unlimited } = grant
  const placed = { ...grant, action, index }
  const withWhen = when ? { when } : {}
  const withFields = fields ? { fields } : {}
  const whenIds = [whenId(placed), whenId(placed, 'after')]
  return [
    {
      table,
      kind: 'grant',
      name,
      held: instead({ ...unlimited, ...withFields, to: [always] }),
      failed: instead({ ...unlimited, ...withFields, to: [] }),
    },
    ...(when
      ? [
          {
            table,
            kind: 'condition' as const,
            name: `of ${name}`,
            held: byFact(whenIds, true),
            failed: byFact(whenIds, false),
          },
        ]
      : []),
    ...(fields
      ? [
          {
            table,
            kind: 'fields' as const,
            name: `of ${name}`,
            held: instead({ ...unlimited, ...withWhen }),
            failed: instead({ ...unlimited, ...withWhen, fields: [] }),
          },
        ]
      : []),
  ]
}

const ALWAYS = new Set([whoId(always), whoId(always, 'after')])

const isAlways = (id: string): boolean => ALWAYS.has(id)
