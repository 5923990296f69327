import { any, all, type Condition } from '../condition/index.js'
import { type Data, type MemoryRecord, predicate } from '../decide/index.js'
import type { UntypedStore } from '../guard/index.js'
import { InputError, keyPath, type KeyValues, ModelError, PachterError } from '../model/index.js'
import { permission, type Rulebook } from '../rules/index.js'
import { LIVE_LIMITS } from './limits.js'
import { basisOfCondition, type Trail } from './trails.js'

/** Says of a caller which of the records that were looked up are open to them, by the paths of their keys. */
export type OpenTo = (caller: unknown) => ReadonlySet<string>

/**
 * Looks records up, once for all callers, with all that the rules look at to decide who may list them; who of the callers
 * may is then decided in memory.
 *
 * @returns nothing where they cannot be looked up so
 */
export async function lookUp(
  store: UntypedStore,
  rulebook: Rulebook,
  table: string,
  keys: readonly KeyValues[],
): Promise<OpenTo | undefined> {
  const { trails } = basisOfCondition(rulebook.model, table, permission(rulebook, table, 'list'))
  const branches = branchesOf(trails)
  if (!branches || keys.length > LIVE_LIMITS.recordsATime) return undefined
  const where = (row: Readonly<Record<string, { is(value: unknown): Condition }>>) =>
    any(...keys.map((key) => all(...Object.entries(key).map(([name, value]) => row[name]?.is(value) as Condition))))
  const found = await store.list(table, { where: where as never, with: withOf(branches) as never }).catch(unlessRefused)
  if (!found) return undefined
  const data: Record<string, MemoryRecord[]> = {}
  for (const record of found) gather(record, branches, data)
  const keyed = found.map((record) => [keyPath(rulebook.model, table, record), record] as const)
  return (caller) => {
    const isOpen = predicate(rulebook, { caller, action: 'list', table, data: data as Data })
    return new Set(keyed.flatMap(([key, record]) => (isOpen(record) ? [key] : [])))
  }
}

/** What is too much, or too deep, to be looked up at once. */
function unlessRefused(error: unknown): undefined {
  if (error instanceof PachterError && (error instanceof InputError || error instanceof ModelError)) return undefined
  throw error
}

/** The steps from a record, by their relation. */
type Branches = ReadonlyMap<string, Branch>

interface Branch {
  readonly table: string
  readonly to: string
  readonly one: boolean
  readonly further: Map<string, Branch>
}

/** The trails as a tree; nothing where not all can be read along with a record. */
function branchesOf(trails: readonly Trail[]): Branches | undefined {
  const root = new Map<string, Branch>()
  for (const { steps, caller } of trails) {
    // What the caller's own record says, the caller was asked before.
    if (caller !== undefined) continue
    let at = root
    for (const { relation, table, to, one, chain } of steps) {
      if (chain) return undefined
      const known = at.get(relation)
      if (known && (known.to !== to || known.table !== table)) return undefined
      const branch = known ?? { table, to, one, further: new Map<string, Branch>() }
      at.set(relation, branch)
      at = branch.further
    }
  }
  return root
}

const withOf = (branches: Branches): object | undefined =>
  branches.size === 0
    ? undefined
    : Object.fromEntries(
        [...branches].map(([relation, { to, one, further }]) => {
          const more = withOf(further)
          return [relation, { ...(!one && { by: to }), ...(more && { with: more }) }]
        }),
      )

/** Puts the records that came along into the tables they are of. */
function gather(record: MemoryRecord, branches: Branches, data: Record<string, MemoryRecord[]>): void {
  for (const [relation, { table, further }] of branches) {
    const there = [(record[relation] ?? []) as MemoryRecord | readonly MemoryRecord[]].flat() as readonly MemoryRecord[]
    for (const each of there) {
      ;(data[table] ??= []).push(each)
      gather(each, further, data)
    }
  }
}
