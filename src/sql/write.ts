import { selectedColumn } from './stored.js'
import { compileEqual } from './compare.js'
import {
  type ChangeRequest,
  type Changes,
  type CreateRequest,
  type RecordRequest,
  type RemoveRequest,
  valueSlot,
} from '../guard/index.js'
import { fieldOf, keyFieldsOf, type Relation, storedField, tableOf } from '../model/index.js'
import {
  type Compilation,
  compileCondition,
  type Scope,
  scopeAt,
  tableAs,
  tableScope,
  typedColumn,
} from './condition.js'
import { type Fragment, join, needs, raw, type Slot, slot, sql } from './fragment.js'
import { columnNamed, tableNamed } from './names.js'
import { keysAre, planRecord, selectedAs } from './record.js'
import { render, type Statement } from './statement.js'
import { handedOut, hasTrait, isZoned, writable } from './traits.js'

/** The record as a change makes it: stamps first, then given values, the rest as it was. */
export function changedScope(
  compilation: Compilation,
  { given, stamps }: Pick<Changes, 'given' | 'stamps'>,
  base: Scope,
): Scope {
  const { model } = compilation.rulebook
  const sent = (name: string) =>
    given.includes(name) ? slot({ kind: 'given', name }, fieldOf(model, base.table, name)) : undefined
  return {
    table: base.table,
    column: (name) => {
      const stamp = Object.hasOwn(stamps, name) ? stamps[name] : undefined
      return stamp ? slot(stamp as Slot['source'], fieldOf(model, base.table, name)) : (sent(name) ?? base.column(name))
    },
    sent,
  }
}

/** The record a create stores: every value is given with the request, also those that are missing. */
export function createdScope({ rulebook }: Compilation, table: string): Scope {
  return { table, column: (name) => slot({ kind: 'given', name }, fieldOf(rulebook.model, table, name)) }
}

/** A statement that writes, and what it gives back. */
export interface Writing {
  readonly statement: Statement
  /** Reads the record written, as the caller sees it; left out, the statement returns its key at most. */
  readonly read?: (row: Record<string, unknown>) => Record<string, unknown>
}

/** A create that carries its condition: it stores nothing where the condition does not hold. */
export function planCreate(
  compilation: Compilation,
  { table, stored, condition, returned, records }: CreateRequest,
): Writing {
  const { dialect } = compilation
  const created = records === 1 ? createdScope(compilation, table) : createdRows(compilation, table, stored)
  const where = compileCondition(compilation, condition, [created])
  const { key } = tableOf(compilation.rulebook.model, table)
  // Where nothing is given, the number that a new record gets is asked for by name: a list of columns is never empty.
  const columns = stored.length > 0 ? stored : key.slice(0, 1)
  const given = stored.map((name) => writable(compilation, table, name, created.column(name)))
  const numbered = () =>
    dialect.selectNumber(
      tableNamed(compilation, table),
      storedField(compilation.rulebook.model, table, columns[0] as string),
    )
  const selected = stored.length > 0 ? sql`SELECT ${join(given, ', ')}` : numbered()
  // What a new record is numbered, every database tells.
  const { clause, read } = returning(compilation, table, returned, tableScope(compilation, table), true)
  const from = records === 1 ? raw(dialect.fromNothing) : rowsOf(compilation, table, stored, records)
  // Numbered in the order in which they were given.
  const order = records === 1 ? sql`` : sql` ORDER BY ${raw(ROWS)}.${raw(dialect.identifier(PLACE))}`
  return {
    statement: render(
      sql`${exactly(compilation, table, columns)}INSERT INTO ${raw(tableNamed(compilation, table))} (${names(compilation, table, columns)}) ${selected}${from} WHERE ${where}${order}${clause}`,
      dialect,
    ),
    ...(read && { read }),
  }
}

/** Several new records, as a table of their values. */
const ROWS = '_v'

/** The column that counts them; no field is called so. */
const PLACE = '_at'

/** What is asked of one of them. */
function createdRows(compilation: Compilation, table: string, stored: readonly string[]): Scope {
  const { column } = createdScope(compilation, table)
  const { dialect } = compilation
  return {
    table,
    column: (name) => (stored.includes(name) ? raw(`${ROWS}.${dialect.identifier(name)}`) : column(name)),
  }
}

function rowsOf(
  { rulebook, dialect }: Compilation,
  table: string,
  stored: readonly string[],
  records: number,
): Fragment {
  const rows = Array.from({ length: records }, (_, at) => {
    const values = stored.map((name) =>
      selectedAs(dialect, {
        name,
        text: slot({ kind: 'given', name: valueSlot(name, at) }, fieldOf(rulebook.model, table, name)),
      }),
    )
    const place = selectedAs(dialect, { name: PLACE, text: raw(String(at)) })
    return sql`SELECT ${join([...values, place], ', ')}${raw(dialect.fromNothing)}`
  })
  return sql` FROM (${join(rows, ' UNION ALL ')}) AS ${raw(ROWS)}`
}

/** A change that carries its condition. */
export function planChange(
  compilation: Compilation,
  { table, changes, settable, condition, returned, records }: ChangeRequest,
): Writing {
  const { dialect } = compilation
  const root = scopeAt(compilation, table)
  const next = changedScope(compilation, changes, root)
  const written = [...settable, ...Object.keys(changes.stamps)]
  const set = written.map(
    (name) =>
      sql`${raw(columnNamed(compilation, table, name))} = ${writable(compilation, table, name, next.column(name))}`,
  )
  const where = compileCondition({ ...compilation, next }, condition, [root])
  const { clause, read } = returning(
    compilation,
    table,
    returned,
    dialect.aliasReturned ? root : tableScope(compilation, table),
  )
  const statement = render(
    sql`${exactly(compilation, table, written)}UPDATE ${tableAs(compilation, table)} SET ${join(set, ', ')} WHERE ${join(
      [keysAre(compilation, table, root, records), where],
      ' AND ',
    )}${clause}`,
    dialect,
  )
  return { statement, ...(read && { read }) }
}

/** A delete that carries its condition, or the change that stands for it; where the database can, it returns the key. */
export function planRemove(compilation: Compilation, request: RemoveRequest): Statement {
  const { table, condition, records, leaving } = request
  const { dialect, rulebook } = compilation
  if (leaving) {
    const changes = { given: [], stamps: leaving, acts: true }
    return planChange(compilation, { table, changes, settable: [], condition, records }).statement
  }
  const root = tableScope(compilation, table)
  const where = join(
    [keysAre(compilation, table, root, records), compileCondition(compilation, condition, [root])],
    ' AND ',
  )
  const from = raw(tableNamed(compilation, table))
  const key = dialect.returning
    ? sql` RETURNING ${names(compilation, table, tableOf(rulebook.model, table).key)}`
    : sql``
  return render(sql`DELETE FROM ${from} WHERE ${where}${key}`, dialect)
}

/** Locks records by the keys given with the request, as far as the condition holds of them, until the transaction ends. */
export function planLock(compilation: Compilation, { table, condition, records }: RemoveRequest): Statement {
  const { dialect } = compilation
  const root = scopeAt(compilation, table)
  const where = sql`${keysAre(compilation, table, root, records)} AND ${compileCondition(compilation, condition, [root])}`
  return render(
    sql`SELECT 1 FROM ${tableAs(compilation, table)} WHERE ${where}${raw(dialect.locks?.write ?? '')}`,
    dialect,
  )
}

/** Locks the record that a reference given with the request leads to: it then stays there, and nothing waits for it. */
export function planParentLock(
  compilation: Compilation,
  table: string,
  { table: parent, from, to }: Relation,
): Statement {
  const { dialect, rulebook } = compilation
  const shape = fieldOf(rulebook.model, table, from)
  const given = { text: slot({ kind: 'given', name: from }, shape), shape }
  const matches = compileEqual(dialect, typedColumn(compilation, scopeAt(compilation, parent), to), given)
  return render(
    sql`SELECT 1 FROM ${tableAs(compilation, parent)} WHERE ${matches}${raw(dialect.locks?.refer ?? '')}`,
    dialect,
  )
}

/** What is stored has to be what the rules looked at: where the database would make another value of it, it is told not to. */
const exactly = (compilation: Compilation, table: string, fields: readonly string[]): Fragment => {
  const isLax = fields.some((name) => hasTrait(compilation, table, name, 'lax'))
  const areZoned = fields.some((name) => isZoned(compilation, table, name))
  return sql`${isLax ? needs('strict') : sql``}${areZoned ? needs('utc') : sql``}`
}

const names = (compilation: Compilation, table: string, fields: readonly string[]): Fragment =>
  raw(fields.map((name) => columnNamed(compilation, table, name)).join(', '))

function returning(
  compilation: Compilation,
  table: string,
  request: RecordRequest | undefined,
  written: Scope,
  keyAtLeast = false,
) {
  const { dialect, rulebook } = compilation
  const plan = dialect.returning && request ? planRecord(compilation, request, [written]) : undefined
  const columns =
    plan?.columns ??
    keyFieldsOf(rulebook.model, table).map(([name, field]) => ({
      name,
      text: selectedColumn(dialect, handedOut(compilation, table, name, written.column(name)), field),
    }))
  const clause = join(
    columns.map((column) => selectedAs(dialect, column)),
    ', ',
  )
  return {
    clause: dialect.returning || keyAtLeast ? sql` RETURNING ${clause}` : sql``,
    ...(plan && { read: plan.read }),
  }
}
