import { any, type Condition, contains, not, unchanged } from '../condition/index.js'
import { fieldOf, tableOf } from '../model/index.js'
import type { Stamps } from '../rules/index.js'
import { type Compilation, compileCondition, type Scope, scopeAt, tableScope } from './condition.js'
import { type Fragment, join, raw, type Slot, slot, sql } from './fragment.js'
import { keysAre, planRecord, type RecordRequest, selectedAs, tableAs } from './record.js'
import { render, type Statement } from './statement.js'

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

/** What a write gives back of the record it wrote. */
export interface WritePlan {
  readonly statement: Statement
  /** The record written, as the caller sees it; only its key where the caller does not. */
  read(row: Record<string, unknown>): Record<string, unknown>
}

/** A create that carries its condition: it stores nothing where the condition does not hold. */
export function planCreate(
  compilation: Compilation,
  stored: readonly string[],
  condition: Condition,
  returned: RecordRequest,
): WritePlan {
  const { dialect } = compilation
  const { table } = returned
  const created = createdScope(compilation, table)
  const where = compileCondition(compilation, condition, [created])
  const values = join(stored.map(created.column), ', ')
  const { clause, read } = returning(compilation, returned, tableScope(dialect, table))
  return {
    statement: render(
      sql`INSERT INTO ${raw(dialect.identifier(table))} (${names(compilation, stored)}) SELECT ${values}${raw(
        dialect.fromNothing,
      )} WHERE ${where}${clause}`,
      dialect,
    ),
    read,
  }
}

/**
 * A change that carries its condition.
 *
 * @param settable the fields given that can be set at all; the others only take part in the condition
 * @param records how many records, by the keys given with the request
 */
export function planChange(
  compilation: Compilation,
  changes: Changes,
  settable: readonly string[],
  condition: Condition,
  returned: RecordRequest,
  records = 1,
): WritePlan {
  const { dialect } = compilation
  const { table } = returned
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
  const { clause, read } = returning(compilation, returned, dialect.aliasReturned ? root : tableScope(dialect, table))
  const statement = render(
    sql`UPDATE ${tableAs(dialect, table)} SET ${join(set, ', ')} WHERE ${join(
      [keysAre(compilation, table, root, records), ...where, ...unmoved(compilation, condition, root)],
      ' AND ',
    )}${clause}`,
    dialect,
  )
  return { statement, read }
}

/** A delete that carries its condition; where the database can, it returns the key. */
export function planDelete(compilation: Compilation, table: string, condition: Condition, records = 1): Statement {
  const { dialect, rulebook } = compilation
  const root = tableScope(dialect, table)
  const where = join(
    [
      keysAre(compilation, table, root, records),
      compileCondition(compilation, condition, [root]),
      ...unmoved(compilation, condition, root),
    ],
    ' AND ',
  )
  const from = raw(dialect.identifier(table))
  const key = dialect.returning ? sql` RETURNING ${names(compilation, tableOf(rulebook.model, table).key)}` : sql``
  return render(sql`DELETE FROM ${from} WHERE ${where}${key}`, dialect)
}

const names = ({ dialect }: Compilation, fields: readonly string[]): Fragment =>
  raw(fields.map((name) => dialect.identifier(name)).join(', '))

/**
 * Where a condition looks at other records, it has to have looked when the record was last changed, not before:
 * a database that waits for another write and then goes on would have looked too early.
 */
function unmoved({ dialect, rulebook }: Compilation, condition: Condition, root: Scope): readonly Fragment[] {
  if (!dialect.unmoved || !contains(condition, ({ kind }) => kind === 'some')) return []
  const { key } = tableOf(rulebook.model, root.table)
  const columns = key.map((name) => ({ name: raw(dialect.identifier(name)), of: root.column(name) }))
  return [dialect.unmoved(raw(dialect.identifier(root.table)), root.column, columns)]
}

function returning(compilation: Compilation, request: RecordRequest, written: Scope) {
  const { dialect } = compilation
  const { columns, read } = planRecord(compilation, request, [written])
  const clause = join(
    columns.map((column) => selectedAs(dialect, column)),
    ', ',
  )
  return { clause: dialect.returning ? sql` RETURNING ${clause}` : sql``, read }
}
