import { type Condition, not, any, unchanged } from '../condition/index.js'
import { fieldOf, tableOf } from '../model/index.js'
import { rulesOf } from '../rules/index.js'
import { type Compilation, compileCondition, type Scope, scopeAt } from './condition.js'
import { type Fragment, join, raw, render, slot, sql, type Statement } from './fragment.js'
import { keyIs, tableAs } from './read.js'

/** The record as the values given with the request make it: those fields given, the others as `base` has them. */
export function givenScope({ rulebook }: Compilation, table: string, given: readonly string[], base: Scope): Scope {
  return (name) =>
    given.includes(name) ? slot({ kind: 'given', name }, fieldOf(rulebook.model, table, name)) : base(name)
}

/** The record a create stores: every value is given with the request, also those that are missing. */
export function createdScope(compilation: Compilation, table: string): Scope {
  const names = Object.keys(tableOf(compilation.rulebook.model, table).fields)
  return givenScope(compilation, table, names, () => sql`NULL`)
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
  return render(
    sql`INSERT INTO ${raw(dialect.identifier(table))} (${names(compilation, stored)}) SELECT ${join(
      stored.map(created),
      ', ',
    )} WHERE ${where} RETURNING ${names(compilation, tableOf(compilation.rulebook.model, table).key)}`,
    dialect.placeholder,
  )
}

/** An update that carries its condition, and writes nothing where all values are as given already. */
export function planUpdate(
  compilation: Compilation,
  table: string,
  given: readonly string[],
  condition: Condition,
): Statement {
  const { rulebook, dialect } = compilation
  const root = scopeAt(dialect, 0)
  const stamps = Object.entries(rulesOf(rulebook, table).stamps.update).map(([name, operand]) => {
    if (operand.kind === 'field') throw new TypeError('A stamp cannot be taken from a field.')
    return sql`${raw(dialect.identifier(name))} = ${slot(operand, fieldOf(rulebook.model, table, name))}`
  })
  const next = givenScope(compilation, table, given, root)
  const stamped = Object.keys(rulesOf(rulebook, table).stamps.update)
  const key = tableOf(rulebook.model, table).key
  const set = given
    .filter((name) => !stamped.includes(name) && !key.includes(name))
    .map((name) => sql`${raw(dialect.identifier(name))} = ${next(name)}`)
  const changed = any(...given.map((name) => not(unchanged(name))))
  const where = [condition, changed].map((each) => compileCondition({ ...compilation, next }, each, [root]))
  return render(
    sql`UPDATE ${tableAs(dialect, table)} SET ${join([...set, ...stamps], ', ')} WHERE ${keyIs(
      rulebook,
      table,
      root,
    )} AND ${join(where, ' AND ')} RETURNING ${join(key.map(root), ', ')}`,
    dialect.placeholder,
  )
}

/** A delete that carries its condition. */
export function planDelete(compilation: Compilation, table: string, condition: Condition): Statement {
  const { rulebook, dialect } = compilation
  const root = scopeAt(dialect, 0)
  const where = compileCondition(compilation, condition, [root])
  return render(
    sql`DELETE FROM ${tableAs(dialect, table)} WHERE ${keyIs(rulebook, table, root)} AND ${where} RETURNING ${join(
      tableOf(rulebook.model, table).key.map(root),
      ', ',
    )}`,
    dialect.placeholder,
  )
}

const names = ({ dialect }: Compilation, fields: readonly string[]): Fragment =>
  raw(fields.map((name) => dialect.identifier(name)).join(', '))
