import { isNumberAsText, type Shape } from '../model/index.js'
import { wordsOf } from './comparison.js'
import { always, type Condition, never, type Operand } from './tree.js'

/** The names records have by level: `row` for the record itself, nothing for the record of the nearest `some`. */
type Names = readonly (string | undefined)[]

/**
 * Writes a condition as one line that a person reads.
 *
 * @example print(entriesRules.ties.author) // row.authorId is caller.id
 */
export function print(condition: Condition): string {
  return write(condition, ['row'], false)
}

function write(condition: Condition, names: Names, negated: boolean): string {
  switch (condition.kind) {
    case 'always':
    case 'never':
      return (condition.kind === 'always') === negated ? 'never' : 'always'
    case 'not':
      return write(condition.of, names, !negated)
    case 'all':
    case 'any': {
      const [only, ...more] = condition.of
      if (!only) return write(condition.kind === 'all' ? always : never, names, negated)
      if (more.length === 0) return write(only, names, negated)
      const word = condition.kind === 'all' ? ' and ' : ' or '
      const parts = condition.of.map((part) => bracket(part, condition.kind, write(part, names, false)))
      const text = parts.join(word)
      return negated ? `not (${text})` : text
    }
    case 'isSet':
      return `${printOperand(condition.operand, names)} ${negated ? 'is missing' : 'is set'}`
    case 'signedIn':
      return negated ? 'not signed in' : 'signed in'
    case 'role':
      return `${negated ? 'not ' : ''}${condition.standing ? `standing ${condition.standing}` : `role ${condition.anyOf.join(' or ')}`}`
    case 'channel':
      return `${negated ? 'not ' : ''}by ${condition.anyOf.join(' or ')}`
    case 'may':
      return `${negated ? 'not ' : ''}${names[condition.level] || condition.table} may be ${pastOf(condition.action)}`
    case 'after':
      return write(condition.of, ['the new row', ...names.slice(1)], negated)
    case 'unchanged':
      return `row.${condition.field} is ${negated ? 'changed' : 'unchanged'}`
    case 'compare':
      return printCompare(condition, names, negated)
    case 'some':
      return printSome(condition, names, negated)
  }
}

function printSome(condition: Condition & { kind: 'some' }, names: Names, negated: boolean): string {
  const { relation, where, from, to, one } = condition
  const base = from.kind === 'field' ? names[from.level] : 'caller'
  const path = base ? `${base}.${relation}` : relation
  if (condition.chain !== undefined) return printChain(condition, path, names, negated)
  if (one) {
    const inner = bracket(where, 'all', write(where, named(names, to.level, path), false))
    return negated ? `not ${bracket(where, 'not', inner)}` : inner
  }
  const shown = base === 'row' ? relation : path
  const outer = names.map((name, level) => (name === undefined ? 'that' + (level === 1 ? '' : level) : name))
  const word = negated ? 'no' : 'some'
  if (where.kind === 'always') return `${word} ${shown}`
  return `${word} ${shown} where ${bracket(where, 'any', write(where, named(outer, to.level, undefined), false))}`
}

/** What stands above a record, the way that a field of it leads. */
function printChain(
  { where, through, chain, to }: Condition & { kind: 'some' },
  path: string,
  names: Names,
  negated: boolean,
): string {
  const outer = named(
    names.map((name, level) => name ?? `that${level === 1 ? '' : level}`),
    to.level,
    undefined,
  )
  const inside = (condition: Condition) => bracket(condition, 'any', write(condition, outer, false))
  const as = through ? `, as long as ${inside(through)},` : ''
  return `${negated ? 'no' : 'some'} record from ${path} up by ${chain}${as} where ${inside(where)}`
}

function named(names: Names, level: number, name: string | undefined): Names {
  const next = names.slice(0, level)
  next[level] = name
  return next
}

/** Brackets what would read wrongly inside its surroundings. */
function bracket(part: Condition, around: 'all' | 'any' | 'not', text: string): string {
  if ((part.kind === 'any' || part.kind === 'all') && part.of.length < 2) return text
  const loose = part.kind === 'any' ? around !== 'any' : part.kind === 'all' && around !== 'all'
  return loose ? `(${text})` : text
}

function printCompare({ how, left, right }: Condition & { kind: 'compare' }, names: Names, negated: boolean): string {
  const [from, to] = [printOperand(left, names), printOperand(right, names)]
  if (how === 'in' && right.kind !== 'value') return `${to} ${negated ? 'does not include' : 'includes'} ${from}`
  return `${from} ${wordsOf(how)[negated ? 1 : 0]} ${to}`
}

/** Writes one operand, such as `row.authorId`, `caller.id` or `'public'`. */
export function printOperand(operand: Operand, names: Names = ['row']): string {
  switch (operand.kind) {
    case 'field': {
      const name = names[operand.level]
      return name ? `${name}.${operand.name}` : operand.name
    }
    case 'old':
      return `old.${operand.name}`
    case 'caller':
      return `caller.${operand.name}`
    case 'now':
      return operand.plusSeconds === 0 ? 'now' : `now ${spanOf(operand.plusSeconds)}`
    case 'given':
      return operand.name
    case 'value':
      return printValue(operand.value, operand.shape)
  }
}

function printValue(value: unknown, shape: Shape): string {
  if (Array.isArray(value)) return `(${value.map((each) => printValue(each, shape)).join(', ')})`
  return typeof value === 'string' && !isNumberAsText(shape) ? `'${value.replaceAll("'", "''")}'` : String(value)
}

const UNITS: readonly (readonly [string, number])[] = [
  ['days', 86_400],
  ['hours', 3_600],
  ['minutes', 60],
  ['seconds', 1],
]

/** A span of time in the largest unit that gives a whole number: `- 15 minutes`. */
function spanOf(seconds: number): string {
  const size = Math.abs(seconds)
  const [unit, length] = UNITS.find(([, each]) => size % each === 0) ?? ['seconds', 1]
  return `${seconds < 0 ? '-' : '+'} ${size / length} ${unit}`
}

const pastOf = (action: string): string =>
  ({ read: 'read', get: 'read', list: 'listed', update: 'updated', delete: 'deleted' })[action] ??
  `${action}${action.endsWith('e') ? '' : 'e'}d`
