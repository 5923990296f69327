import { any, type Condition, not, unchanged } from '../condition/index.js'
import { fieldOf, tableOf } from '../model/index.js'
import type { Stamps } from '../rules/index.js'
import { type Compilation, compileCondition, type Scope, scopeAt, tableScope } from './condition.js'
import { type Fragment, join, raw, render, type Slot, slot, sql, type Statement } from './fragment.js'
import { keyIs, tableAs } from './read.js'

/** What a change sets: fields whose values are given with the request, and stamps. */
export interface Changes {
  readonly given: readonly string[]
  readonly stamps: Stamps
}

/** The record as a change makes it: given values first, then stamps, the rest as it was. */
export function changedScope(compilation: Compilation, { given, stamps }: Changes, base: Scope): Scope {
  const { model } = compilation.rulebook
  return {
    table: base.table,
    column: (name) => {
      const shape = fieldOf(model, base.table, name)
      if (given.includes(name)) return slot({ kind: 'given', name }, shape)
      const stamp = stamps[name]
      return stamp ? slot(stamp as Slot['source'], shape) : base.column(name)
    },
  }
}

/** The record a create stores: every value is given with the request, also those that are missing. */
export function createdScope({ rulebook }: Compilation, table: string): Scope {
  return { table, column: (name) => slot({ kind: 'given', name }, fieldOf(rulebook.model, table, name)) }
}

/** A create that carries its condition: it stores nothing where the condition does not hold. */
export function planCreate(
  compilation: Compilation,
  table: string,
  stored: readonly string[],
  condition: Condition,
): Statement {
  const { dialect } = compilation
  const created = createdScope(compilation, table)
  const where = compileCondition(compilation, condition, [created])
  const values = join(stored.map(created.column), ', ')
  return render(
    sql`INSERT INTO ${raw(dialect.identifier(table))} (${names(compilation, stored)}) SELECT ${values}${raw(
      dialect.fromNothing,
    )} WHERE ${where}${returningKey(compilation, table)}`,
    dialect,
  )
}

/**
 * A change that carries its condition.
 *
 * @param settable the fields given that can be set at all; the others only take part in the condition
 */
export function planChange(
  compilation: Compilation,
  table: string,
  changes: Changes,
  settable: readonly string[],
  condition: Condition,
): Statement {
  const { dialect } = compilation
  const root = scopeAt(dialect, table)
  const next = changedScope(compilation, changes, root)
  // A stamp is set even where its field was sent back as it was.
  const stamped = changedScope(compilation, { given: [], stamps: changes.stamps }, root)
  const set = [
    ...settable.map((name) => [name, next] as const),
    ...Object.keys(changes.stamps).map((name) => [name, stamped] as const),
  ].map(([name, scope]) => sql`${raw(dialect.identifier(name))} = ${scope.column(name)}`)
  // Where values are given, an update that changes nothing writes nothing, stamps neither.
  const changed = changes.given.length > 0 ? [any(...changes.given.map((name) => not(unchanged(name))))] : []
  const where = [condition, ...changed].map((each) => compileCondition({ ...compilation, next }, each, [root]))
  return render(
    sql`UPDATE ${tableAs(dialect, table)} SET ${join(set, ', ')} WHERE ${join(
      [keyIs(compilation, table, root), ...where],
      ' AND ',
    )}${returningKey(compilation, table)}`,
    dialect,
  )
}

/** A delete that carries its condition. */
export function planDelete(compilation: Compilation, table: string, condition: Condition): Statement {
  const { dialect } = compilation
  const root = tableScope(dialect, table)
  const where = join([keyIs(compilation, table, root), compileCondition(compilation, condition, [root])], ' AND ')
  const from = raw(dialect.identifier(table))
  return render(sql`DELETE FROM ${from} WHERE ${where}${returningKey(compilation, table)}`, dialect)
}

const names = ({ dialect }: Compilation, fields: readonly string[]): Fragment =>
  raw(fields.map((name) => dialect.identifier(name)).join(', '))

function returningKey(compilation: Compilation, table: string): Fragment {
  if (!compilation.dialect.returning) return sql``
  return sql` RETURNING ${names(compilation, tableOf(compilation.rulebook.model, table).key)}`
}
