import {
  type Compare,
  type Comparison,
  type Condition,
  contains,
  type Operand,
  operandsOf,
  type Some,
} from '../condition/index.js'
import { asksCaller, type Rulebook } from '../rules/index.js'
import type { Dialect } from './dialect.js'
import { type Fragment, join, raw, slot, sql } from './fragment.js'

/** A record as SQL sees it: how to write each of its fields. */
export type Scope = (field: string) => Fragment

/** What a condition is compiled with. */
export interface Compilation {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  /** The record as it will be, for conditions on an update. */
  readonly next?: Scope
}

const OPERATORS: Readonly<Partial<Record<Comparison, string>>> = {
  is: '=',
  below: '<',
  atMost: '<=',
  above: '>',
  atLeast: '>=',
}

/** The record at a level, under the alias it has in our statements. */
export function scopeAt(dialect: Dialect, level: number): Scope {
  return (field) => raw(`r${level}.${dialect.identifier(field)}`)
}

/**
 * Compiles a condition, free of `may`, roles and `signedIn`, to SQL that is never true where the condition is
 * false. It may be NULL there, which a WHERE takes for false; use {@link compileAnswer} for a column.
 */
export function compileCondition(compilation: Compilation, condition: Condition, scopes: readonly Scope[]): Fragment {
  switch (condition.kind) {
    case 'always':
      return sql`TRUE`
    case 'never':
      return sql`FALSE`
    case 'all':
    case 'any': {
      const parts = condition.of.map((part) => compileCondition(compilation, part, scopes))
      if (parts.length === 0) return condition.kind === 'all' ? sql`TRUE` : sql`FALSE`
      return sql`(${join(parts, condition.kind === 'all' ? ' AND ' : ' OR ')})`
    }
    case 'not':
      // Where a missing value leaves the inside NULL, its negation is true: law 6.
      return sql`(${compileCondition(compilation, condition.of, scopes)}) IS NOT TRUE`
    case 'after':
      return compileCondition(compilation, condition.of, [next(compilation), ...scopes.slice(1)])
    case 'unchanged':
      return compilation.dialect.same(scopeOf(scopes, 0)(condition.field), next(compilation)(condition.field))
    case 'isSet':
      return sql`${compileOperand(compilation, condition.operand, scopes)} IS NOT NULL`
    case 'compare':
      return compileCompare(compilation, condition, scopes)
    case 'some':
      return compileSome(compilation, condition, scopes)
    case 'signedIn':
    case 'role':
    case 'may':
      throw new TypeError(`A ${condition.kind} condition has to be decided before SQL is made.`)
  }
}

/** Compiles a condition to a column that is true or false, never NULL. */
export function compileAnswer(compilation: Compilation, condition: Condition, scopes: readonly Scope[]): Fragment {
  return sql`(${compileCondition(compilation, condition, scopes)}) IS TRUE`
}

function compileCompare(compilation: Compilation, { how, left, right }: Compare, scopes: readonly Scope[]): Fragment {
  const from = compileOperand(compilation, left, scopes)
  const to = compileOperand(compilation, right, scopes)
  if (how === 'in') return compilation.dialect.itemOf(from, to)
  if (how === 'startsWith') return compilation.dialect.startsWith(from, to)
  return sql`${from} ${raw(OPERATORS[how] as string)} ${to}`
}

function compileSome(compilation: Compilation, some: Some, scopes: readonly Scope[]): Fragment {
  const { dialect } = compilation
  const { table, from, to, where } = some
  const inner = scopeAt(dialect, to.level)
  const outer = scopeOf(scopes, from.level)(from.field)
  const source = raw(`${dialect.identifier(table)} AS r${to.level}`)
  const deeper = scopes.slice(0, to.level)
  deeper[to.level] = inner
  const condition = compileCondition(compilation, where, deeper)
  // A subquery about the caller alone is evaluated once, and its few keys then drive an index.
  if (asksCaller(where) && !refersOutside(where, to.level)) {
    return dialect.among(outer, sql`SELECT ${inner(to.field)} FROM ${source} WHERE ${condition}`)
  }
  return sql`EXISTS (SELECT 1 FROM ${source} WHERE ${inner(to.field)} = ${outer} AND ${condition})`
}

/** Whether a condition inside a `some` looks at records outside it. */
function refersOutside(where: Condition, level: number): boolean {
  return contains(
    where,
    (part) =>
      part.kind === 'after' ||
      part.kind === 'unchanged' ||
      (part.kind === 'some' && part.from.level < level) ||
      operandsOf(part).some((operand) => operand.kind === 'field' && operand.level < level),
  )
}

function compileOperand({ rulebook }: Compilation, operand: Operand, scopes: readonly Scope[]): Fragment {
  switch (operand.kind) {
    case 'field':
      return scopeOf(scopes, operand.level)(operand.name)
    case 'now':
      return slot(operand, { type: 'timestamp' })
    case 'value':
      return slot(operand, operand.shape)
    case 'caller': {
      const shape = rulebook.caller.attributes[operand.name]
      if (!shape) throw new TypeError(`Callers have no attribute ${operand.name}.`)
      return slot(operand, shape)
    }
  }
}

function scopeOf(scopes: readonly Scope[], level: number): Scope {
  const scope = scopes[level]
  if (!scope) throw new TypeError(`A condition refers to level ${level}, which it is not inside of.`)
  return scope
}

function next(compilation: Compilation): Scope {
  if (compilation.next) return compilation.next
  throw new TypeError('A condition on the record after a change needs the record after the change.')
}
