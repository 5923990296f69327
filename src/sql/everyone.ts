import { pairs } from './chain.js'
import { compileEqual, type TypedFragment } from './compare.js'
import {
  allOf,
  always,
  anyOf,
  asksCaller,
  type Condition,
  contains,
  normalise,
  notOf,
  type Operand,
  operandsOf,
  type Some,
} from '../condition/index.js'
import { fieldOf, type Shape, tableOf, toPlain, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import {
  type Compilation,
  compileCondition,
  compileOperand,
  linksOf,
  type Scope,
  scopeAt,
  scopeUnder,
  tableAs,
  typedColumn,
} from './condition.js'
import type { Dialect } from './dialect.js'
import { type Fragment, join, needs, raw, slot, sql } from './fragment.js'
import { planCount } from './read.js'
import { tableNamed } from './names.js'
import { selectedAs } from './record.js'
import { render, type Statement } from './statement.js'

/** The table with a record for each caller, and which field of it holds what of a caller. */
export interface Everyone {
  readonly table: string
  /** The field for each of the caller's attributes; an attribute without one is missing. */
  readonly attributes: Readonly<Record<string, string>>
  /** The field that lists the roles the caller comes with; left out, they come with none. */
  readonly roles?: string
}

/** Many callers as rows that a query can join: under the alias `_c`, with columns for key and attributes. */
interface CallerRows {
  readonly from: Fragment
  readonly key: readonly Fragment[]
  attribute(name: string): TypedFragment
}

/**
 * How to count what each of all callers reaches. Statements that name callers do so by their key, in columns
 * `key 0`, `key 1` …; a count stands under `count`.
 */
export interface EveryonePlan {
  /** Counts what everyone reaches. */
  readonly open: Statement
  /** Counts all records, for those who reach them whatever stands in them. */
  readonly whole: Statement
  /** Names those who do. */
  readonly byThemselves?: Statement
  /** Counts what each of the others reaches besides what is open; not those who reach nothing more. */
  readonly own?: Statement
}

/** The alias of the caller's record. */
const CALLER = '_c'

/** A condition is not taken apart into more branches than this; the rest is asked of each pair. */
const MOST_BRANCHES = 64

/**
 * Plans to count what everyone in a table of callers reaches, in four queries at most, whatever their number: instead
 * of asking for each caller, each branch of the condition is joined once to the callers, and the pairs are counted.
 *
 * @param filter when a caller reaches a record; expanded
 */
export function planEveryone(
  compilation: Compilation,
  table: string,
  filter: Condition,
  everyone: Everyone,
): EveryonePlan {
  const { rulebook } = compilation
  const { column } = scopeUnder(compilation, everyone.table, CALLER)
  return planCounts(compilation, table, ofSignedIn(filter, everyone), {
    from: raw(`${tableNamed(compilation, everyone.table)} AS ${CALLER}`),
    key: tableOf(rulebook.model, everyone.table).key.map(column),
    attribute: (name) => {
      const field = (name === 'roles' ? everyone.roles : everyone.attributes[name]) as string
      return { text: column(field), shape: fieldOf(rulebook.model, everyone.table, field) }
    },
  })
}

/** One statement that counts what everyone in a table of callers reaches, whoever they are. */
export const planOpen = (compilation: Compilation, table: string, filter: Condition, everyone: Everyone): Statement =>
  planCount({ ...compilation, form: 'scan' }, table, openIn(branchesIn(ofSignedIn(filter, everyone))))

/** What of some branches holds whoever asks. */
const openIn = (branches: readonly Condition[]): Condition =>
  normalise(anyOf(...branches.filter((each) => !asksCaller(each))))

/**
 * The same for some callers whom the conditions of the rules do not tell apart but by their attributes' values. They
 * are named by their place, from 0, in the column `key 0`.
 *
 * @param filter when a caller reaches a record; expanded, and specialised for these callers
 * @param callers two to some hundred: each is a row of the statement
 */
export function planCallers(
  compilation: Compilation,
  table: string,
  filter: Condition,
  callers: readonly Caller[],
): EveryonePlan {
  const { rulebook, dialect } = compilation
  const shapes = new Map<string, Shape>([
    ...Object.entries(rulebook.caller.attributes).filter(([name]) => callers[0] && name in callers[0].attributes),
    ['roles', { type: 'list', item: 'text' }],
  ])
  const rows = callers.map(({ attributes, roles }, at) => {
    const given = [...shapes].map(([name, shape]) => {
      const value = toPlain(shape, (name === 'roles' ? roles : attributes[name]) as Value)
      return { name, text: slot({ kind: 'value', shape, value }, shape) }
    })
    const columns = [{ name: 'at', text: raw(String(at)) }, ...given]
    return sql`SELECT ${join(
      columns.map((each) => selectedAs(dialect, each)),
      ', ',
    )}${raw(dialect.fromNothing)}`
  })
  const column = (name: string) => raw(`${CALLER}.${dialect.identifier(name)}`)
  return planCounts(compilation, table, filter, {
    from: sql`(${join(rows, ' UNION ALL ')}) AS ${raw(CALLER)}`,
    key: [column('at')],
    attribute: (name) => ({ text: column(name), shape: shapes.get(name) as Shape }),
  })
}

function planCounts(compilation: Compilation, table: string, filter: Condition, callers: CallerRows): EveryonePlan {
  const { dialect } = compilation
  const branches = branchesIn(filter)
  const open = openIn(branches)
  const asking = branches.filter(asksCaller)
  const [alone, own] = [asking.filter(isCallerAlone), asking.filter((each) => !isCallerAlone(each))]
  const inside: Compilation = { ...compilation, form: 'walk', caller: callers.attribute }
  const holds = () => compileCondition(inside, anyOf(...alone), [scopeAt(compilation, table)])
  return {
    open: planCount({ ...compilation, form: 'scan' }, table, open),
    whole: planCount(compilation, table, normalise(allOf())),
    ...(alone.length > 0 && {
      byThemselves: render(
        sql`SELECT ${keyColumns(dialect, callers.key)} FROM ${callers.from} WHERE ${holds()}`,
        dialect,
      ),
    }),
    ...(own.length > 0 && { own: render(countPairs(inside, table, own, open, callers), dialect) }),
  }
}

function keyColumns(dialect: Dialect, key: readonly Fragment[]): Fragment {
  return join(
    key.map((text, at) => selectedAs(dialect, { name: `key ${at}`, text })),
    ', ',
  )
}

/** Counts, for each caller, the records that some branch pairs them with and that are not open to everyone. */
function countPairs(
  compilation: Compilation,
  table: string,
  branches: readonly Condition[],
  open: Condition,
  { from, key }: CallerRows,
): Fragment {
  const { rulebook, dialect } = compilation
  const root = scopeAt(compilation, table)
  const record = tableOf(rulebook.model, table).key.map((name, at) =>
    selectedAs(dialect, { name: `record ${at}`, text: root.column(name) }),
  )
  const pairs = branches.map((branch) => {
    const joined = new Joined(compilation, [from, tableAs(compilation, table)])
    joined.add(normalise(allOf(branch, notOf(open))), [root])
    return sql`SELECT DISTINCT ${keyColumns(dialect, key)}, ${join(record, ', ')} FROM ${joined.from} WHERE ${joined.where}`
  })
  const keys = key.map((_, at) => raw(`_p.${dialect.identifier(`key ${at}`)}`))
  return sql`SELECT ${keyColumns(dialect, keys)}, count(*) AS ${raw(dialect.identifier('count'))} FROM (${join(pairs, ' UNION ')}) AS _p GROUP BY ${join(keys, ', ')}`
}

/**
 * Tables joined under a condition. A step to another record that leads to the caller is joined instead of looked
 * into for each pair: the pairs are made distinct afterwards, so that it does not matter how often it is found.
 */
class Joined {
  readonly #tables: Fragment[]
  readonly #conditions: Fragment[] = []

  constructor(
    private readonly compilation: Compilation,
    tables: readonly Fragment[],
  ) {
    this.#tables = [...tables]
  }

  get from(): Fragment {
    return join(this.#tables, ', ')
  }

  get where(): Fragment {
    return this.#conditions.length > 0 ? join(this.#conditions, ' AND ') : sql`TRUE`
  }

  add(condition: Condition, scopes: readonly Scope[]): void {
    if (condition.kind === 'all') {
      for (const part of condition.of) this.add(part, scopes)
    } else if (condition.kind === 'some' && asksCaller(condition.where) && !asksOnTheWay(condition)) {
      const { table, from, to, where, chain } = condition
      const alias = `_j${this.#tables.length}`
      this.#tables.push(raw(`${tableNamed(this.compilation, table)} AS ${alias}`))
      const deeper = scopes.slice(0, to.level)
      deeper[to.level] = scopeUnder(this.compilation, table, alias)
      const reached: Operand = { kind: 'field', level: to.level, name: to.field }
      if (chain === undefined) this.add({ kind: 'compare', how: 'is', left: reached, right: from }, deeper)
      else this.#addChain(condition, chain, scopes, typedColumn(this.compilation, deeper[to.level] as Scope, to.field))
      this.add(where, deeper)
    } else this.#conditions.push(compileCondition(this.compilation, condition, scopes))
  }

  /** Joins what the step starts from with all that is above it. */
  #addChain(condition: Some, chain: string, scopes: readonly Scope[], top: TypedFragment): void {
    const { dialect } = this.compilation
    const alias = `_j${this.#tables.length}`
    const links = linksOf({ ...this.compilation, form: 'scan' }, { ...condition, where: always }, chain, scopes)
    this.#tables.push(sql`${needs('chains')}${pairs(dialect, links, alias)}`)
    const side = (column: string) => ({ text: raw(`${alias}.${column}`), shape: top.shape })
    const start = compileOperand(this.compilation, condition.from, scopes)
    this.#conditions.push(compileEqual(dialect, side('a'), start), compileEqual(dialect, top, side('t')))
  }
}

/** Whether what a chain passes depends on who asks: then it is followed for each. */
const asksOnTheWay = ({ through }: Some): boolean => through !== undefined && asksCaller(through)

/** What remains of a condition for callers who have signed in, by no channel, with the roles of their record. */
function ofSignedIn(condition: Condition, { attributes, roles }: Everyone): Condition {
  const isMissing = (operand: Operand) =>
    operand.kind === 'caller' &&
    (operand.name === 'roles' ? roles === undefined : !Object.hasOwn(attributes, operand.name))
  return normalise(condition, (leaf) => {
    if (leaf.kind === 'signedIn') return allOf()
    if (leaf.kind === 'channel') return anyOf()
    if (leaf.kind === 'role') return roles === undefined ? anyOf() : hasRole(leaf.anyOf)
    return operandsOf(leaf).some(isMissing) ? anyOf() : leaf
  })
}

const hasRole = (anyOf: readonly string[]): Condition => ({
  kind: 'compare',
  how: 'overlaps',
  left: { kind: 'caller', name: 'roles' },
  right: { kind: 'value', shape: { type: 'list', item: 'text' }, value: anyOf },
})

const isCallerAlone = (condition: Condition): boolean =>
  !contains(condition, (part) => operandsOf(part).some((each) => each.kind === 'field' && each.level === 0))

/** Conditions one of which holds where the whole does, each without an OR over the caller as far as that goes. */
function branchesIn(condition: Condition): readonly Condition[] {
  if (!asksCaller(condition)) return [condition]
  if (condition.kind === 'any') return condition.of.flatMap(branchesIn)
  if (condition.kind === 'some') return branchesIn(condition.where).map((where) => ({ ...condition, where }))
  if (condition.kind !== 'all') return [condition]
  return condition.of.map(branchesIn).reduce<readonly Condition[]>(
    (made, parts) => {
      const few = made.length * parts.length <= MOST_BRANCHES ? parts : [anyOf(...parts)]
      return made.flatMap((each) => few.map((part) => normalise(allOf(each, part))))
    },
    [allOf()],
  )
}
