import {
  accepts,
  type Decimal,
  describeType,
  isMissing,
  type Relation,
  type Shape,
  toPlain,
  type Value,
} from '../model/index.js'
import { RuleError } from './errors.js'
import { all, any, type Comparison, type Condition, not, type Operand } from './tree.js'

declare const VALUE: unique symbol

/** Something typed that a condition can compare; `V` is the type of its value. */
export interface Term<V> {
  readonly [VALUE]?: V
  /** What it is, for the builders of conditions. */
  readonly source: Source
}

type Other<V> = V | Term<V>

/** What every field and caller attribute can be asked. */
export interface AnyTerm<V> extends Term<V> {
  /** Whether both values are present and exactly equal. */
  is(other: Other<V>): Condition
  /** The opposite of `is`: also true where a value is missing. */
  isNot(other: Other<V>): Condition
  /** Whether the value is present and one of these. */
  oneOf(values: Other<readonly V[]>): Condition
  /** Whether there is a value. */
  isSet(): Condition
  /** Whether there is none. */
  isMissing(): Condition
}

/** What numbers and timestamps can be asked besides; false where a value is missing. */
export interface OrderedTerm<V> extends AnyTerm<V> {
  /** Whether the value is at least the first and at most the second. */
  between(first: Other<V>, last: Other<V>): Condition
  below(other: Other<V>): Condition
  atMost(other: Other<V>): Condition
  above(other: Other<V>): Condition
  atLeast(other: Other<V>): Condition
}

/** What texts can be asked besides. */
export interface TextTerm<V> extends AnyTerm<V> {
  /** Whether the text begins with exactly these characters. */
  startsWith(prefix: Other<string>): Condition
}

/** What lists can be asked; a missing list includes nothing, and a missing item is in none. */
export interface ListTerm<Item> extends Term<readonly Item[]> {
  /** Whether the item is in the list. */
  includes(item: Other<Item>): Condition
  /** Whether at least one of the items is in the list; of no items, none is. */
  includesAny(items: Other<readonly Item[]>): Condition
  /** Whether all of the items are in the list; of no items, all are. */
  includesAll(items: Other<readonly Item[]>): Condition
  isSet(): Condition
  isMissing(): Condition
}

/** The term for a value of type `V`. */
export type TermFor<V> = [V] extends [readonly (infer Item)[]]
  ? ListTerm<Item>
  : [V] extends [Decimal]
    ? OrderedTerm<V>
    : [V] extends [string]
      ? TextTerm<V>
      : [V] extends [number | bigint | Date]
        ? OrderedTerm<V>
        : AnyTerm<V>

/**
 * Where a term's value comes from: an operand, its type, and the steps to the record whose field it is.
 * `level` is that of the record the steps start from.
 */
export interface Source {
  readonly shape: Shape
  readonly operand: Operand
  readonly level: number
  readonly steps: readonly Relation[]
}

/** The first level no enclosing `some` uses; conditions are built inside one another, so one counter serves. */
let freeLevel = 1

/** Builds what a `some` asks of the records it steps to, at a level of its own. */
export function atNewLevel(reserved: number, build: (level: number) => Condition): Condition {
  const level = freeLevel + reserved
  const before = freeLevel
  freeLevel = level + 1
  try {
    return build(level)
  } finally {
    freeLevel = before
  }
}

/** Makes the term for a source. */
export function term(source: Source): Term<unknown> {
  const compare = (how: Comparison) => (other: unknown) => comparison(how, source, operandFrom(source.shape, other))
  const item: Shape = source.shape.type === 'list' ? { type: source.shape.item ?? 'text' } : source.shape
  const listable = ['text', 'choice', 'integer'].includes(item.type)
  const list: Shape = { type: 'list', item: item.type === 'integer' ? 'integer' : 'text' }
  const isSet = () => stepped([source], ([operand]) => ({ kind: 'isSet', operand: operand as Operand }))
  const compareLists = (how: Comparison) => (items: unknown) =>
    comparison(how, source, operandFrom(source.shape, items))
  return {
    source,
    is: compare('is'),
    isNot: (other: unknown) => not(compare('is')(other)),
    oneOf: (values: unknown) =>
      isTerm(values) || listable
        ? comparison('in', source, operandFrom(list, values))
        : any(...(values as readonly unknown[]).map(compare('is'))),
    includes: (other: unknown) => comparison('in', operandFrom(item, other), source),
    startsWith: compare('startsWith'),
    below: compare('below'),
    atMost: compare('atMost'),
    above: compare('above'),
    atLeast: compare('atLeast'),
    isSet,
    isMissing: () => not(isSet()),
    between: (first: unknown, last: unknown) => all(compare('atLeast')(first), compare('atMost')(last)),
    includesAny: compareLists('overlaps'),
    includesAll: compareLists('includesAll'),
  } as Term<unknown>
}

/** A span of time; its parts add up. */
export interface Span {
  readonly days?: number
  readonly hours?: number
  readonly minutes?: number
  readonly seconds?: number
}

/** The moment of the request, or one at a distance from it. */
export interface Moment extends OrderedTerm<Date> {
  plus(span: Span): Moment
  minus(span: Span): Moment
}

/** Makes the term for the moment so many seconds from the request. */
export function moment(plusSeconds: number): Moment {
  const source: Source = { shape: { type: 'timestamp' }, operand: { kind: 'now', plusSeconds }, level: 0, steps: [] }
  return {
    ...(term(source) as OrderedTerm<Date>),
    plus: (span) => moment(plusSeconds + secondsIn(span)),
    minus: (span) => moment(plusSeconds - secondsIn(span)),
  }
}

const secondsIn = ({ days = 0, hours = 0, minutes = 0, seconds = 0 }: Span): number =>
  ((days * 24 + hours) * 60 + minutes) * 60 + seconds

/** Whether something is a term rather than a bare value. */
export function isTerm(other: unknown): other is Term<unknown> {
  return typeof other === 'object' && other !== null && 'source' in other
}

/** A source for what a rule compares with: another term, or a bare value of the expected type. */
export function operandFrom(shape: Shape, other: unknown): Source {
  if (isTerm(other)) return other.source
  if (isMissing(other) || !accepts(shape, other)) {
    throw new RuleError(
      `A condition compares with ${show(other)}, which is not ${describeType(shape)}` +
        (isMissing(other) ? '; ask isSet() or isMissing() about missing values.' : '.'),
    )
  }
  return {
    shape,
    operand: { kind: 'value', shape: plainShape(shape), value: toPlain(shape, other as Value) },
    level: 0,
    steps: [],
  }
}

const show = (value: unknown): string => (typeof value === 'bigint' ? `${value}n` : JSON.stringify(value))

function plainShape({ type, choices, item, scale }: Shape): Shape {
  return { type, ...(choices && { choices }), ...(item && { item }), ...(scale && { scale }) }
}

function comparison(how: Comparison, left: Source, right: Source): Condition {
  return stepped([left, right], ([from, to]) => ({
    kind: 'compare',
    how,
    left: from as Operand,
    right: to as Operand,
  }))
}

/** Turns `row.plot.holderId` into a step to the plot around a condition on its `holderId`. */
function stepped(sources: readonly Source[], build: (operands: readonly Operand[]) => Condition): Condition {
  const wrappers: ((inner: Condition) => Condition)[] = []
  let level = freeLevel
  const operands = sources.map(({ operand, level: base, steps }) => {
    if (steps.length === 0) return operand
    wrappers.push(wrapSteps(base, steps, level))
    level += steps.length
    return { ...operand, level: level - 1 } as Operand
  })
  return wrappers.reduceRight((inner, wrap) => wrap(inner), build(operands))
}

/** Wraps a condition in steps: from `base` to `first`, on to `first + 1`, and so forth. */
export function wrapSteps(base: number, steps: readonly Relation[], first: number): (inner: Condition) => Condition {
  return (inner) =>
    steps.reduceRight<Condition>(
      (where, { name, table, from, to, one }, at) => ({
        kind: 'some',
        relation: name,
        table,
        from: { kind: 'field', level: at === 0 ? base : first + at - 1, name: from },
        to: { level: first + at, field: to },
        one,
        where,
      }),
      inner,
    )
}
