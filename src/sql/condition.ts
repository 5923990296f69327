import type { Form } from '../guard/index.js'
import {
  always,
  asksCaller,
  type Compare,
  type Condition,
  contains,
  type Operand,
  refersOutside,
  type Some,
} from '../condition/index.js'
import { fieldOf, isNever, type Shape, storedTable } from '../model/index.js'
import type { Rulebook } from '../rules/index.js'
import type { TypedFragment } from './compare.js'
import { downwards, type Links, NotInOneStatementError, upwards } from './chain.js'
import { isPresent } from './stored.js'
import type { Dialect, Traits } from './dialect.js'
import { columnNamed, type Names, tableNamed } from './names.js'
import { areKnown, hasTrait, otherwise, readable, searchable } from './traits.js'
import { type Fragment, isSlot, join, needs, raw, type Slot, slot, sql } from './fragment.js'

/** A record as SQL sees it: its table, and how to write each of its fields. */
export interface Scope {
  readonly table: string
  /** A field as values have it. */
  column(field: string): Fragment
  /** Its column as the database has it, where the record is stored. */
  bare?(field: string): Fragment
  /** Of a record as a change makes it: the value that was sent for a field, where one was. */
  sent?(field: string): Fragment | undefined
}

/** What a condition is compiled with. */
export interface Compilation {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  /** What is known of the database's columns; where there is no database, none is what the model does not say: {@link NO_TRAITS}. */
  readonly traits: Traits
  /** How records are to be found; left out, one by one, as for a record known by its key. */
  readonly form?: Form
  /** Where the caller is a record among others: how to write an attribute of theirs. Left out, a value. */
  readonly caller?: (name: string) => TypedFragment
  /** Whether it is to stand in a statement of somebody else's, in front of which nothing can stand. */
  readonly isPiece?: boolean
  /** The record as it will be, for conditions on an update. */
  readonly next?: Scope
  /** The record as it was, inside a condition on how it will be. */
  readonly old?: Scope
}

/** The alias of the record at a level. Names in a model start with a letter, so no table is called so. */
export const aliasAt = (level: number): string => `_${level}`

/** A table under the alias of a level. */
export const tableAs = (names: Names, table: string, level = 0): Fragment =>
  raw(`${tableNamed(names, table)} AS ${aliasAt(level)}`)

/** The record at a level, under its alias. */
export const scopeAt = (compilation: Compilation, table: string, level = 0): Scope =>
  scopeUnder(compilation, table, aliasAt(level))

/** A record under an alias as it stands in the statement. */
export const scopeUnder = (compilation: Compilation, table: string, alias: string): Scope => {
  const bare = (field: string) => raw(`${alias}.${columnNamed(compilation, table, field)}`)
  return { table, bare, column: (field) => readable(compilation, table, field, bare(field)) }
}

/** The record of a statement whose table has no alias: not every database gives one to what is deleted. */
export const tableScope = (compilation: Compilation, table: string): Scope => {
  const { dialect, rulebook } = compilation
  // Without its schema, which not every database takes before a column.
  return scopeUnder(compilation, table, dialect.identifier(storedTable(rulebook.model, table).name))
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
      const parts = cheapFirst(condition.of).map((part) => compileCondition(compilation, part, scopes))
      if (parts.length === 0) return condition.kind === 'all' ? sql`TRUE` : sql`FALSE`
      return sql`(${join(parts, condition.kind === 'all' ? ' AND ' : ' OR ')})`
    }
    case 'not':
      // So written, a partial index on what is missing serves.
      if (condition.of.kind === 'isSet') {
        const { text, shape } = compileOperand(compilation, condition.of.operand, scopes)
        if (!compilation.dialect.types[shape.type].present) return sql`${text} IS NULL`
      }
      // Where a missing value leaves the inside NULL, its negation is true: law 6.
      return sql`(${compileCondition(compilation, condition.of, scopes)}) IS NOT TRUE`
    case 'after':
      return compileCondition({ ...compilation, old: scopeOf(scopes, 0) }, condition.of, [
        next(compilation),
        ...scopes.slice(1),
      ])
    case 'unchanged':
      return compileUnchanged(compilation, condition.field, scopeOf(scopes, 0))
    case 'isSet':
      return compileIsSet(compilation, compileOperand(compilation, condition.operand, scopes))
    case 'compare':
      return compileCompare(compilation, condition, scopes)
    case 'some':
      return condition.chain === undefined
        ? compileSome(compilation, condition, scopes)
        : compileChain(compilation, condition, condition.chain, scopes)
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
      throw new TypeError(`A ${condition.kind} condition has to be decided before SQL is made.`)
  }
}

/** Not every database looks at other tables only where what stands in the record leaves it open. */
function cheapFirst(parts: readonly Condition[]): readonly Condition[] {
  const looks = (part: Condition) => contains(part, ({ kind }) => kind === 'some')
  return [...parts.filter((part) => !looks(part)), ...parts.filter(looks)]
}

/** Compiles a condition to a column that is true or false, never NULL. */
export function compileAnswer(compilation: Compilation, condition: Condition, scopes: readonly Scope[]): Fragment {
  return sql`(${compileCondition(compilation, condition, scopes)}) IS TRUE`
}

const compileIsSet = ({ dialect }: Compilation, { text, shape }: TypedFragment): Fragment =>
  isPresent(dialect, text, shape)

function compileUnchanged(compilation: Compilation, field: string, now: Scope): Fragment {
  const before = typedColumn(compilation, compilation.old ?? now, field)
  const changed = next(compilation)
  const sent = changed.sent?.(field)
  const after = sent ? { ...before, text: sent } : typedColumn(compilation, changed, field)
  if (isNever(before.shape, 'compared')) {
    // What is not looked into counts as changed where anything is set, but for nothing in place of nothing.
    if (!isSlot(after.text)) return sql`TRUE`
    return sql`((${compileIsSet(compilation, before)}) IS NOT TRUE AND (${compileIsSet(compilation, after)}) IS NOT TRUE)`
  }
  const [was, is] = [before, after].map((each) => cutMoment(compilation, each).text) as [Fragment, Fragment]
  return compilation.dialect.same(was, is, before.shape)
}

function compileCompare(compilation: Compilation, { how, left, right }: Compare, scopes: readonly Scope[]): Fragment {
  const operands = [compileOperand(compilation, left, scopes), compileOperand(compilation, right, scopes)] as const
  return compilation.dialect.comparisons[how](...operands)
}

function compileSome(compilation: Compilation, some: Some, scopes: readonly Scope[]): Fragment {
  const { dialect, form = 'walk' } = compilation
  const { table, from, to, where } = some
  const inner = scopeAt(compilation, table, to.level)
  const start = compileOperand(compilation, from, scopes)
  const source = tableAs(compilation, table, to.level)
  const deeper = scopes.slice(0, to.level)
  deeper[to.level] = inner
  const condition = compileCondition(compilation, where, deeper)
  const reached = typedColumn(compilation, inner, to.field)
  // Where callers are records among others, so does what is asked of them.
  const looksOut = refersOutside(where, to.level) || (compilation.caller !== undefined && asksCaller(where))
  const subquery = { selected: cutMoment(compilation, reached).text, source, where: condition, looksOut }
  // A subquery about the caller alone can be evaluated once, and its few keys then drive an index.
  const byCaller = from.kind === 'field' && asksCaller(where) && !looksOut
  return dialect[byCaller ? 'among' : 'finds'](cutMoment(compilation, start).text, subquery, start.shape, form)
}

/**
 * Whether some record of a chain meets a condition. From the record around it upwards, where records are looked at one by
 * one; or, where the caller says which records meet it, from these down to all that they are above of, once for a query.
 */
function compileChain(compilation: Compilation, some: Some, chain: string, scopes: readonly Scope[]): Fragment {
  const { dialect, form = 'walk', caller } = compilation
  const { from, to, where, through = always } = some
  const isEach = caller !== undefined && (asksCaller(where) || asksCaller(through))
  if (isEach && !dialect.correlates) {
    throw new NotInOneStatementError(
      `${dialect.name} cannot count for many callers at once what a chain asks of each; look as one of them.`,
    )
  }
  const links = linksOf(compilation, some, chain, scopes)
  const start = cutMoment(compilation, compileOperand(compilation, from, scopes))
  const isBelow = !dialect.correlates || (asksCaller(where) && !isEach && form !== 'walk')
  if (!isBelow) return sql`${needs('chains')}${upwards(dialect, links, start)}`
  const subquery = {
    selected: raw(`_d${to.level}.k`),
    source: downwards(dialect, links),
    where: sql`TRUE`,
    looksOut: false,
  }
  return sql`${needs('chains')}${dialect.among(start.text, subquery, start.shape, form === 'walk' ? 'scan' : form)}`
}

/**
 * A moment to the millisecond; any other value as it is. What is bound is cut as well: to a dialect the cut may be
 * another text than the whole.
 */
const cutMoment = ({ dialect }: Compilation, value: TypedFragment): TypedFragment =>
  value.shape.type === 'timestamp' ? { ...value, text: dialect.instant(value.text) } : value

/** What a chain is made of, step by step. */
export function linksOf(compilation: Compilation, some: Some, chain: string, scopes: readonly Scope[]): Links {
  const { form = 'walk' } = compilation
  const { table, to, where, through = always } = some
  const inner = scopeAt(compilation, table, to.level)
  const deeper = scopes.slice(0, to.level)
  deeper[to.level] = inner
  // What is asked of each record of a chain would go up chains of its own from each: it is found once instead.
  const each: Compilation = { ...compilation, form: form === 'walk' ? 'scan' : form }
  return {
    source: tableAs(compilation, table, to.level),
    level: to.level,
    key: cutMoment(compilation, typedColumn(compilation, inner, to.field)),
    next: cutMoment(compilation, typedColumn(compilation, inner, chain)),
    passes: compileCondition(each, through, deeper),
    holds: compileCondition(each, where, deeper),
  }
}

/** A field of a record, so that it compares exactly. */
export function typedColumn(compilation: Compilation, { table, column, bare }: Scope, name: string): TypedFragment {
  const { dialect, rulebook } = compilation
  const shape = fieldOf(rulebook.model, table, name)
  const text = column(name)
  if (isSlot(text)) return { text, shape }
  const isText = ['text', 'choice'].includes(shape.type === 'list' ? (shape.item ?? 'text') : shape.type)
  const isLoose = isText && dialect.exact !== undefined && hasTrait(compilation, table, name, 'loose')
  const other = otherwise(compilation, table, name)
  const isOther = other !== undefined && dialect.readable !== undefined
  if (!isLoose && !isOther) return { text, shape }
  const search = (value: Fragment) =>
    dialect.equal(bare?.(name) ?? text, searchable(compilation, table, name, value), shape)
  return {
    text: (isLoose && dialect.exact?.(text)) || text,
    shape,
    ...(bare && other !== 'fine' && areKnown(compilation.traits) && { search }),
  }
}

export function compileOperand(compilation: Compilation, operand: Operand, scopes: readonly Scope[]): TypedFragment {
  const { rulebook, old } = compilation
  switch (operand.kind) {
    case 'field':
      return typedColumn(compilation, scopeOf(scopes, operand.level), operand.name)
    case 'old':
      if (!old) throw new TypeError('A condition asks about the record before a change, and there is no change.')
      return typedColumn(compilation, old, operand.name)
    case 'now':
      return typedSlot(operand, { type: 'timestamp' })
    case 'value':
      return typedSlot(operand, operand.shape)
    case 'given':
      return typedSlot({ kind: 'given', name: operand.name }, operand.shape)
    case 'caller':
      return compilation.caller?.(operand.name) ?? typedSlot(operand, callerShape(rulebook, operand.name))
  }
}

const typedSlot = (source: Slot['source'], shape: Shape): TypedFragment => ({ text: slot(source, shape), shape })

function callerShape({ caller }: Rulebook, name: string): Shape {
  if (name === 'roles') return { type: 'list', item: 'text' }
  const shape = Object.hasOwn(caller.attributes, name) ? caller.attributes[name] : undefined
  if (shape) return shape
  throw new TypeError(`Callers have no attribute ${name}.`)
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
