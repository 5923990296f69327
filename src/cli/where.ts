import { wholeKey, type Workbench } from '../check/index.js'
import { all, type Condition, not } from '../condition/index.js'
import { accepts, describeType, fieldOf, readTyped, tableOf } from '../model/index.js'
import { UsageError } from './config.js'

interface AnyTerm {
  is(value: unknown): Condition
  below(value: unknown): Condition
  above(value: unknown): Condition
  isMissing(): Condition
}

const OPERATORS: Readonly<Record<string, (term: AnyTerm, value: unknown) => Condition>> = {
  '=': (term, value) => term.is(value),
  '!=': (term, value) => not(term.is(value)),
  '<': (term, value) => term.below(value),
  '>': (term, value) => term.above(value),
}

/**
 * Reads filters typed on the command line: `audience=public`, `areaM2>100`, `holderId=` for a missing value. All of
 * them have to hold.
 *
 * @throws {UsageError} where one is none
 * @throws {UnknownNameError} where there is no such field
 */
export async function readWhere(
  bench: Workbench,
  table: string,
  typed: readonly string[],
): Promise<((row: never) => Condition) | undefined> {
  if (typed.length === 0) return undefined
  const filters = await Promise.all(typed.map((each) => readFilter(bench, table, each)))
  return (row) => all(...filters.map(({ name, test }) => test((row as Record<string, AnyTerm>)[name] as AnyTerm)))
}

async function readFilter(bench: Workbench, table: string, each: string) {
  const [, name, how, written] = /^(\w+)(!=|=|<|>)(.*)$/s.exec(each) ?? []
  if (name === undefined || how === undefined || written === undefined) {
    throw new UsageError(`${JSON.stringify(each)} is not a filter; write field=value, with =, !=, < or >.`)
  }
  const { model } = bench.rulebook
  const field = fieldOf(model, table, name)
  if (written === '') return { name, test: (term: AnyTerm) => (how === '=' ? term.isMissing() : not(term.isMissing())) }
  const named = field.references ?? (field.key && tableOf(model, table).key.length === 1 ? table : undefined)
  const value = readTyped(field, named === undefined ? written : await wholeKey(bench, named, written))
  if (!accepts(field, value))
    throw new UsageError(`${name} must be ${describeType(field)}; ${JSON.stringify(written)} is not.`)
  return { name, test: (term: AnyTerm) => (OPERATORS[how] as (typeof OPERATORS)[string])(term, value) }
}
