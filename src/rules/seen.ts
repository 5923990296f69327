import {
  after,
  allOf,
  always,
  type Condition,
  contains,
  never,
  normalise,
  notOf,
  type Operand,
  operandsOf,
  rewrite,
  shift,
  type Some,
} from '../condition/index.js'
import { tableOf } from '../model/index.js'
import { inForce } from './in-force.js'
import { fieldSight } from './permission.js'
import { covers, grantsFor, type Rulebook } from './rulebook.js'

/**
 * A condition of somebody who asks, made safe: a field that is hidden from the caller counts as missing, and
 * records of other tables that the caller may not list are not there. Otherwise asking would tell what is hidden.
 *
 * @param tables the tables by level; the last is the one the condition is about
 */
export function asSeen(rulebook: Rulebook, condition: Condition, tables: readonly string[]): Condition {
  const inside = (each: Condition) => asSeen(rulebook, each, tables)
  const sights = (each: Condition) =>
    operandsOf(each).map((operand) => sightOfOperand(rulebook, operand, tables, 'list'))
  switch (condition.kind) {
    case 'all':
    case 'any':
    case 'not':
      return rewrite(condition, { part: inside })
    case 'isSet':
    case 'compare':
      return allOf(...sights(condition), condition)
    case 'some':
      return allOf(...sights(condition), { ...condition, ...seenThere(rulebook, condition, tables, asSeen) })
    case 'always':
    case 'never':
    case 'signedIn':
    case 'role':
    case 'channel':
      return condition
    case 'may':
      // What the caller may do, the caller is told.
      return condition
    case 'after':
    case 'unchanged':
      throw new TypeError('Somebody who asks about records asks how they are, not how a change makes them.')
  }
}

/**
 * What of a condition holds by what the caller sees alone: where it does, the condition holds, and saying so tells
 * nothing that is hidden. What rests on hidden fields, or on there being no records that could be hidden, does not.
 *
 * @param condition expanded
 * @param tables the tables by level; the last is the one the condition is about
 * @param own what the caller knows of the record it is about: as much as `get` shows, or all, where the record is new
 */
export function asTold(
  rulebook: Rulebook,
  condition: Condition,
  tables: readonly string[],
  own: 'get' | 'all' = 'get',
): Condition {
  return told(rulebook, normalise(condition), tables, own)
}

function told(rulebook: Rulebook, condition: Condition, tables: readonly string[], own: Own): Condition {
  const seen = (part: Condition): readonly Condition[] =>
    part.kind === 'unchanged'
      ? [sightAt(rulebook, tables[0] as string, part.field, 0, own)]
      : operandsOf(part).map((each) => sightOfOperand(rulebook, each, tables, own))
  const inside = (book: Rulebook, each: Condition, at: readonly string[]) => told(book, each, at, own)
  switch (condition.kind) {
    case 'all':
    case 'any':
      return rewrite(condition, { part: (part) => told(rulebook, part, tables, own) })
    case 'not': {
      const { of } = condition
      if (asksOwnRoles(of)) return condition
      // That there is no such record may be told only of those the caller would see.
      if (of.kind === 'some' || of.kind === 'may') return never
      if (of.kind === 'after') return told(rulebook, after(notOf(of.of)), tables, own)
      return allOf(...seen(of), condition)
    }
    case 'after':
      // How it will be, the caller knows as far as how it is; how it would then be seen can hang on what is hidden.
      return allOf(...sightsBefore(rulebook, condition.of, tables), after(told(rulebook, condition.of, tables, 'all')))
    case 'some': {
      if (asksOwnRoles(condition)) return condition
      return allOf(...seen(condition), { ...condition, ...seenThere(rulebook, condition, tables, inside) })
    }
    case 'always':
    case 'never':
    case 'isSet':
    case 'compare':
    case 'signedIn':
    case 'role':
    case 'channel':
    case 'may':
    case 'unchanged':
      return allOf(...seen(condition), condition)
  }
}

/** When a caller sees all that a condition asks of the record it is about, as that is before a change. */
function sightsBefore(rulebook: Rulebook, condition: Condition, tables: readonly string[]): readonly Condition[] {
  const [table = ''] = tables
  const names = new Set<string>()
  contains(condition, (part) => {
    for (const operand of operandsOf(part)) {
      if (operand.kind === 'old' || (operand.kind === 'field' && operand.level === 0)) names.add(operand.name)
    }
    return false
  })
  return [...names].map((name) => sightAt(rulebook, table, name, 0, 'get'))
}

/** Whether roles are looked up in the caller's own record, the only one that is found from the caller: they know their roles. */
const asksOwnRoles = (condition: Condition): boolean => condition.kind === 'some' && condition.from.kind === 'caller'

/**
 * What is asked of the records that a step leads to, where the caller sees them and what leads to them. A chain ends before
 * a record that the caller does not see, or of which it does not show where it leads.
 */
function seenThere(
  rulebook: Rulebook,
  { table, to, where, chain, through }: Some,
  tables: readonly string[],
  inside: (rulebook: Rulebook, condition: Condition, tables: readonly string[]) => Condition,
): Pick<Some, 'where' | 'through'> {
  const deeper = [...tables.slice(0, to.level)]
  deeper[to.level] = table
  const sees = [
    { kind: 'may', level: to.level, table, action: 'list' } as const,
    sightAt(rulebook, table, to.field, to.level, 'list'),
  ]
  if (chain === undefined) return { where: allOf(...sees, inside(rulebook, where, deeper)) }
  const passing = through ? [inside(rulebook, through, deeper)] : []
  return {
    where: inside(rulebook, where, deeper),
    through: allOf(...sees, sightAt(rulebook, table, chain, to.level, 'list'), ...passing),
  }
}

/** What a caller knows of the record that a condition is about: what is shown of it in this way, or all. */
type Own = 'list' | 'get' | 'all'

/** When a caller sees what is asked; other records are found as those that may be listed. */
function sightOfOperand(rulebook: Rulebook, operand: Operand, tables: readonly string[], own: Own): Condition {
  if (operand.kind !== 'field') return always
  const { level, name } = operand
  return sightAt(rulebook, tables[level] as string, name, level, level === 0 ? own : 'list')
}

/** When a field is seen of a record that is seen in this way. */
function sightAt(rulebook: Rulebook, table: string, field: string, level: number, how: Own): Condition {
  if (how === 'all') return always
  const grants = grantsFor(inForce(rulebook, table), how)
  const isKey = tableOf(rulebook.model, table).key.includes(field)
  if (isKey || grants.every((grant) => covers(grant, field))) return always
  return shift(fieldSight(rulebook, table, field, how), level)
}
