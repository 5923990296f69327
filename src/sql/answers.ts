import type { Question } from '../decide/index.js'
import { type Compilation, compileAnswer, type Scope } from './condition.js'
import type { Fragment } from './fragment.js'
import { isTrue } from './stored.js'

/** A row as a driver returns it. */
export type DriverRow = Readonly<Record<string, unknown>>

/** A column of a result. */
export interface Column {
  readonly name: string
  readonly text: Fragment
}

/** Questions as extra columns: one column for each distinct condition, and where to find each answer. */
export interface AnswerColumns {
  readonly columns: readonly Column[]
  answersOf(row: DriverRow): (id: string) => boolean
}

/** Asks questions about a record in columns of their own. */
export function answerColumns(
  compilation: Compilation,
  scopes: readonly Scope[],
  questions: readonly Question[],
): AnswerColumns {
  const names = new Map<string, string>()
  const columns: Column[] = []
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
      columns.push({ name, text: compileAnswer(compilation, condition, scopes) })
    }
    sources.set(id, names.get(text) as string)
  }
  const answersOf = (row: DriverRow) => (id: string) => {
    const source = sources.get(id) ?? false
    return typeof source === 'boolean' ? source : isTrue(row[source])
  }
  return { columns, answersOf }
}
