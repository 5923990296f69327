import { type Condition, contains, operandsOf } from '../condition/index.js'
import { storedField, tableOf } from '../model/index.js'
import { type Compilation, compileCondition, scopeAt, tableAs } from './condition.js'
import type { Dialect } from './dialect.js'
import { type Fragment, join, raw, sql } from './fragment.js'
import { columnNamed } from './names.js'
import { selectedAs } from './record.js'

/** The OR a filter finds its records by, and what it asks besides. */
export interface Branches {
  readonly of: readonly Condition[]
  readonly rest: readonly Condition[]
}

/**
 * The branches of a filter between which the form matters: those of an OR with a subquery in it. None where the
 * database's own planner does well whatever is written.
 */
export function branchesOf(filter: Condition): Branches | undefined {
  const parts = filter.kind === 'all' ? filter.of : [filter]
  const found = parts.find((part) => part.kind === 'any' && contains(part, ({ kind }) => kind === 'some'))
  if (found?.kind !== 'any') return undefined
  return { of: found.of, rest: parts.filter((part) => part !== found) }
}

/** Whether a condition names the records it holds of by their key, or by the beginning of it. */
export function isByKey(condition: Condition, key: readonly string[]): boolean {
  if (condition.kind === 'all') return condition.of.some((part) => isByKey(part, key))
  if (condition.kind === 'any') return condition.of.length > 0 && condition.of.every((part) => isByKey(part, key))
  if (condition.kind !== 'compare') return false
  const { how, left, right } = condition
  const isFirst = left.kind === 'field' && left.level === 0 && left.name === key[0]
  return isFirst && (how === 'is' || how === 'in') && right.kind !== 'field'
}

/** Whether a branch lets all records pass or none, whatever stands in them. */
export function isAboutCallerAlone(branch: Condition): boolean {
  return !contains(branch, (part) =>
    operandsOf(part).some((operand) => operand.kind === 'old' || (operand.kind === 'field' && operand.level === 0)),
  )
}

/** What a query selects from, and under which condition. */
export interface Source {
  readonly from: Fragment
  readonly where: Fragment
}

/** Writes a filter in a form: what stands behind FROM and WHERE. */
export function sourceOf(compilation: Compilation, table: string, filter: Condition): Source {
  const { dialect, form } = compilation
  const from = tableAs(compilation, table)
  const branches = form === 'gather' ? branchesOf(filter) : undefined
  const root = scopeAt(compilation, table)
  if (!branches || !joinsBranches(dialect, branches)) {
    return { from, where: compileCondition(compilation, filter, [root]) }
  }
  const { key, fields } = tableOf(compilation.rulebook.model, table)
  const same = key.map((name) =>
    dialect.equal(raw(`_g.${columnNamed(compilation, table, name)}`), root.column(name), fields[name] as never),
  )
  return {
    from: sql`${from} JOIN (${gathered(compilation, table, branches)}) AS _g ON ${join(same, ' AND ')}`,
    where: compileCondition(compilation, { kind: 'all', of: branches.rest }, [root]),
  }
}

/**
 * Whether the keys of the branches are joined, instead of the branches being tested in place: some databases do
 * better so, and none can search an index for what depends on the caller alone.
 */
const joinsBranches = (dialect: Dialect, { of }: Branches): boolean =>
  dialect.joinsBranches || of.some(isAboutCallerAlone)

/** The keys that each branch finds, each once. */
export function gathered(compilation: Compilation, table: string, { of }: Branches): Fragment {
  const { dialect, rulebook } = compilation
  const root = scopeAt(compilation, table)
  const key = tableOf(rulebook.model, table).key.map((name) =>
    selectedAs(dialect, { name: storedField(rulebook.model, table, name), text: root.column(name) }),
  )
  return join(
    of.map(
      (branch) =>
        sql`SELECT ${join(key, ', ')} FROM ${tableAs(compilation, table)} WHERE ${compileCondition(compilation, branch, [root])}`,
    ),
    ' UNION ',
  )
}
