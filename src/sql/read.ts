import type { Condition } from '../condition/index.js'
import { fieldMasks, type Question } from '../decide/index.js'
import { type FieldData, isMissing, tableOf } from '../model/index.js'
import type { Caller, Rulebook } from '../rules/index.js'
import { aliasAt, type Compilation, compileAnswer, compileCondition, type Scope, scopeAt } from './condition.js'
import type { Dialect } from './dialect.js'
import { type Fragment, join, raw, render, slot, sql, type Statement } from './fragment.js'

/** A row as a driver returns it. */
export type DriverRow = Readonly<Record<string, unknown>>

/** Questions as extra columns: one column for each distinct condition, and where to find each answer. */
interface AnswerColumns {
  readonly columns: readonly Fragment[]
  answersOf(row: DriverRow): (id: string) => boolean
}

/** A statement that reads records, and how to read what it returns. */
export interface ReadPlan {
  readonly statement: Statement
  /** The record without the fields that are hidden from this caller, and the answers asked for. */
  read(row: DriverRow): { record: Record<string, unknown>; facts: (id: string) => boolean }
}

/** What to read. */
export interface ReadRequest {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  readonly table: string
  readonly caller: Caller
  readonly action: 'list' | 'get'
  /** Which records; conditions decided for this caller. */
  readonly filter: Condition
  /** Only the record whose key is given with the request. */
  readonly byKey?: boolean
  /** At most as many as given with the request as `$limit`. */
  readonly limited?: boolean
  /** What else to find out about each record. */
  readonly questions?: readonly Question[]
}

/** One statement that returns the records a caller sees, masked, in the order of their keys. */
export function planRead(request: ReadRequest): ReadPlan {
  const { rulebook, dialect, table, caller, action, filter, questions = [] } = request
  const { fields, key } = tableOf(rulebook.model, table)
  const root = scopeAt(dialect, table)
  const compilation: Compilation = { rulebook, dialect }
  const masks = fieldMasks(rulebook, table, caller, action)
  const answers = answerColumns(
    compilation,
    [root],
    [...questions, ...[...masks].map(([field, condition]) => ({ id: maskId(field), condition }))],
  )
  const columns = Object.entries(fields).map(([name, field]) => {
    const mask = masks.get(name)
    const column = dialect.selected(root.column(name), field)
    const seen = mask && compileCondition(compilation, mask, [root])
    return sql`${seen ? sql`CASE WHEN ${seen} THEN ${column} END` : column} AS ${raw(dialect.identifier(name))}`
  })
  const where = [
    ...(request.byKey ? [keyIs({ rulebook, dialect }, table, root)] : []),
    compileCondition(compilation, filter, [root]),
  ]
  const text = sql`SELECT ${join([...columns, ...answers.columns], ', ')} FROM ${tableAs(dialect, table)} WHERE ${join(
    where,
    ' AND ',
  )} ORDER BY ${join(key.map(root.column), ', ')}${
    request.limited ? dialect.limit(slot({ kind: 'given', name: '$limit' }, { type: 'integer' })) : sql``
  }`
  return {
    statement: render(text, dialect),
    read: (row) => {
      const facts = answers.answersOf(row)
      const shown = Object.entries(fields).filter(([name]) => !masks.has(name) || facts(maskId(name)))
      const record = Object.fromEntries(shown.map(([name, field]) => [name, valueIn(dialect, field, row[name])]))
      return { record, facts }
    },
  }
}

function valueIn(dialect: Dialect, field: FieldData, value: unknown): unknown {
  return isMissing(value) ? null : dialect.fromDriver(field, value)
}

const maskId = (field: string): string => `mask ${field}`

/** The condition alone, as it stands in a WHERE; level 0 is under its alias. */
export function filterStatement(compilation: Compilation, table: string, filter: Condition): Statement {
  const { dialect } = compilation
  return render(compileCondition(compilation, filter, [scopeAt(dialect, table)]), dialect)
}

/** One statement that counts the records a filter lets through. */
export function planCount(rulebook: Rulebook, dialect: Dialect, table: string, filter: Condition): Statement {
  const where = compileCondition({ rulebook, dialect }, filter, [scopeAt(dialect, table)])
  return render(
    sql`SELECT count(*) AS ${raw(dialect.identifier('count'))} FROM ${tableAs(dialect, table)} WHERE ${where}`,
    dialect,
  )
}

/** A statement that answers questions about one record, and how to read what it returns. */
export interface AnswerPlan {
  readonly statement: Statement
  answersOf(row: DriverRow): (id: string) => boolean
  /** The record as stored, without regard to who may see what. */
  recordOf(row: DriverRow): Record<string, unknown>
}

/** One statement that answers questions about the record whose key is given with the request. */
export function planAnswers(compilation: Compilation, table: string, questions: readonly Question[]): AnswerPlan {
  const { rulebook, dialect } = compilation
  const root = scopeAt(dialect, table)
  const { fields } = tableOf(rulebook.model, table)
  const { columns, answersOf } = answerColumns(compilation, [root], questions)
  const values = Object.entries(fields).map(
    ([name, field]) => sql`${dialect.selected(root.column(name), field)} AS ${raw(dialect.identifier(name))}`,
  )
  const all = [...values, ...columns]
  const text = sql`SELECT ${join(all, ', ')} FROM ${tableAs(dialect, table)} WHERE ${keyIs({ rulebook, dialect }, table, root)}`
  return {
    statement: render(text, dialect),
    answersOf,
    recordOf: (row) =>
      Object.fromEntries(Object.entries(fields).map(([name, field]) => [name, valueIn(dialect, field, row[name])])),
  }
}

/** One statement that answers questions about a record that is not stored, from its values alone. */
export function planAnswersFor(
  compilation: Compilation,
  values: Scope,
  questions: readonly Question[],
): Omit<AnswerPlan, 'recordOf'> {
  const { columns, answersOf } = answerColumns(compilation, [values], questions)
  const { dialect } = compilation
  const text = sql`SELECT ${join([raw('1'), ...columns], ', ')}${raw(dialect.fromNothing)}`
  return { statement: render(text, dialect), answersOf }
}

function answerColumns(
  compilation: Compilation,
  scopes: readonly Scope[],
  questions: readonly Question[],
): AnswerColumns {
  const names = new Map<string, string>()
  const columns: Fragment[] = []
  const sources = new Map<string, string | boolean>()
  for (const { id, condition } of questions) {
    if (condition.kind === 'always' || condition.kind === 'never') {
      sources.set(id, condition.kind === 'always')
      continue
    }
    const text = JSON.stringify(condition)
    if (!names.has(text)) {
      const name = `$${names.size}`
      names.set(text, name)
      columns.push(
        sql`${compileAnswer(compilation, condition, scopes)} AS ${raw(compilation.dialect.identifier(name))}`,
      )
    }
    sources.set(id, names.get(text) as string)
  }
  const answersOf = (row: DriverRow) => (id: string) => {
    const source = sources.get(id) ?? false
    return typeof source === 'boolean' ? source : isTrue(row[source])
  }
  return { columns, answersOf }
}

/** Drivers without booleans return 1 and 0. */
const isTrue = (value: unknown): boolean => value === true || value === 1 || value === 1n

/** The table with the alias of level 0. */
export function tableAs(dialect: Dialect, table: string): Fragment {
  return raw(`${dialect.identifier(table)} AS ${aliasAt(0)}`)
}

/** Whether a record is the one whose key is given with the request. */
export function keyIs({ rulebook, dialect }: Compilation, table: string, root: Scope): Fragment {
  const { key, fields } = tableOf(rulebook.model, table)
  const parts = key.map((name) => {
    const field = fields[name] as FieldData
    return dialect.equal(root.column(name), slot({ kind: 'given', name: `key ${name}` }, field), field)
  })
  return join(parts, ' AND ')
}
