import { allOf, normalise, notOf } from '../../condition/index.js'
import type { Access } from '../../decide/index.js'
import { noteChecked, permission, type Rulebook, rulesOf, specialise } from '../../rules/index.js'
import { countWhere } from '../bench/count.js'
import type { Workbench } from '../bench/workbench.js'

const WAYS = ['list', 'get']

/** Whether the rules of a table set apart what is listed and what can be read by its key. */
export function isApart(rulebook: Rulebook, table: string): boolean {
  const { grants, denies } = rulesOf(rulebook, table)
  const isGranted = WAYS.some((way) => (grants[way] ?? []).length > 0)
  return isGranted || Object.values(denies).some(({ on }) => on.some((action) => WAYS.includes(action)))
}

/** The ways in which the records of a table are read, where the rules tell them apart; else lists stand for both. */
export const waysToRead = (rulebook: Rulebook, table: string): readonly string[] =>
  isApart(rulebook, table) ? WAYS : ['list']

const benches = new WeakMap<Workbench, Map<string, Workbench>>()

/**
 * A workbench on which the lists of a table hold what each caller can read by its key: one query, and not one for each
 * record. Nothing where the rules do not set the two apart.
 */
export function byKey(bench: Workbench, table: string): Workbench | undefined {
  if (!isApart(bench.rulebook, table)) return undefined
  const known = benches.get(bench) ?? new Map<string, Workbench>()
  benches.set(bench, known)
  const made = known.get(table) ?? bench.instead({ rules: noteChecked(listingByKey(bench.rulebook, table)) })
  known.set(table, made)
  return made
}

function listingByKey(rulebook: Rulebook, table: string): Rulebook {
  const rules = rulesOf(rulebook, table)
  const denies = Object.entries(rules.denies).map(([name, { on, ...deny }]) => {
    const others = on.filter((action) => action !== 'list')
    return [name, { ...deny, on: others.includes('get') ? [...others, 'list'] : others }]
  })
  const changed = {
    ...rules,
    grants: { ...rules.grants, list: rules.grants['get'] ?? [] },
    denies: Object.fromEntries(denies) as typeof rules.denies,
  }
  return { ...rulebook, tables: { ...rulebook.tables, [table]: changed } }
}

/** What a caller may do to a record that is seen in one way, or in both: what is hidden in one of them only, is seen. */
export function inEitherWay(listed: Access | undefined, single: Access | undefined): Access | undefined {
  if (!listed || !single) return listed ?? single
  return { ...single, hidden: single.hidden.filter((field) => listed.hidden.includes(field)) }
}

/** The records that are seen in one way or the other. */
export function bothWays(
  listed: ReadonlyMap<string, Access>,
  single: ReadonlyMap<string, Access>,
): ReadonlyMap<string, Access> {
  const keys = new Set([...listed.keys(), ...single.keys()])
  return new Map([...keys].map((key) => [key, inEitherWay(listed.get(key), single.get(key)) as Access]))
}

/** How many records a caller can read by their keys and does not see in a list. */
export async function countBeyond(bench: Workbench, name: string, table: string): Promise<number> {
  const { rulebook } = bench
  const caller = bench.caller(name)
  if (caller.trusted !== undefined || !isApart(rulebook, table)) return 0
  const sight = (way: string) => specialise(permission(rulebook, table, way), caller)
  return countWhere(bench, table, caller, normalise(allOf(sight('get'), notOf(sight('list')))))
}
