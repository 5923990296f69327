import { selectedColumn } from './stored.js'
import type { Question } from '../decide/index.js'
import { tableOf } from '../model/index.js'
import { answerColumns, type DriverRow } from './answers.js'
import { type Compilation, type Scope, scopeAt, tableAs } from './condition.js'
import { join, raw, sql } from './fragment.js'
import { keyIs, selectedAs, valueReader } from './record.js'
import { render, type Statement } from './statement.js'
import { handedOut } from './traits.js'

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
  const root = scopeAt(compilation, table)
  const fields = Object.entries(tableOf(rulebook.model, table).fields)
  const { columns, answersOf } = answerColumns(compilation, [root], questions)
  const values = fields.map(([name, field]) => ({
    name,
    text: selectedColumn(dialect, handedOut(compilation, table, name, root.column(name)), field),
  }))
  const all = [...values, ...columns].map((column) => selectedAs(dialect, column))
  const text = sql`SELECT ${join(all, ', ')} FROM ${tableAs(compilation, table)} WHERE ${keyIs(compilation, table, root)}`
  const readers = fields.map(([name, field]) => [name, valueReader(dialect, field, `${table}.${name}`)] as const)
  return {
    statement: render(text, dialect),
    answersOf,
    recordOf: (row) => Object.fromEntries(readers.map(([name, read]) => [name, read ? read(row[name]) : row[name]])),
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
  const asked = columns.map((column) => selectedAs(dialect, column))
  const text = sql`SELECT ${join([raw('1'), ...asked], ', ')}${raw(dialect.fromNothing)}`
  return { statement: render(text, dialect), answersOf }
}
