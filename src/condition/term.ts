import {
  accepts,
  assertWithin,
  brandOf,
  type DateText,
  type TimeText,
  type Decimal,
  describeType,
  isBranded,
  isListable,
  isMissing,
  ITEM_TYPES,
  LIMITS,
  type Relation,
  type Shape,
  show,
  toPlain,
  type Value,
} from '../model/index.js'
import { RuleError } from './errors.js'
import { made } from './logic.js'
import type { Comparison } from './comparison.js'
import { allOf, anyOf, type Condition, notOf, type Operand } from './tree.js'

declare const VALUE: unique symbol

const TERM = brandOf('term')

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

/** What documents can be asked. */
export interface DocumentTerm<V> extends Term<V> {
  isSet(): Condition
  isMissing(): Condition
}

/** The term for a value of type `V`. */
export type TermFor<V> = [V] extends [readonly (infer Item)[]]
  ? ListTerm<Item>
  : [V] extends [Decimal | DateText | TimeText]
    ? OrderedTerm<V>
    : [V] extends [string]
      ? TextTerm<V>
      : [V] extends [number | bigint | Date]
        ? OrderedTerm<V>
        : [V] extends [boolean | Uint8Array]
          ? AnyTerm<V>
          : DocumentTerm<V>

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

const TEXT: Shape = { type: 'text' }

/** Makes the term for a source. */
export function term(source: Source): Term<unknown> {
  const item: Shape = source.shape.type === 'list' ? { type: source.shape.item ?? 'text' } : source.shape
  const list: Shape = { type: 'list', item: ITEM_TYPES.find((each) => each === item.type) ?? 'text' }
  const compareAs = (how: Comparison, shape: Shape) => (other: unknown) =>
    made(comparison(how, source, operandFrom(shape, other)))
  const compare = (how: Comparison) => compareAs(how, source.shape)
  const [is, atLeast, atMost] = [compare('is'), compare('atLeast'), compare('atMost')]
  const isSet = () => made(stepped([source], ([operand]) => ({ kind: 'isSet', operand: operand as Operand })))
  const listable = isListable(item)
  return Object.freeze({
    [TERM]: true,
    source,
    is,
    isNot: (other: unknown) => made(notOf(is(other))),
    oneOf: (values: unknown) =>
      isTerm(values) || listable ? compareAs('in', list)(values) : made(anyOf(...several(values).map(is))),
    includes: (other: unknown) => made(comparison('in', operandFrom(item, other), source)),
    startsWith: compareAs('startsWith', TEXT),
    below: compare('below'),
    atMost,
    above: compare('above'),
    atLeast,
    isSet,
    isMissing: () => made(notOf(isSet())),
    between: (first: unknown, last: unknown) => made(allOf(atLeast(first), atMost(last))),
    includesAny: compare('overlaps'),
    includesAll: compare('includesAll'),
  }) as unknown as Term<unknown>
}

/** Values that are compared with one by one, since their type has no lists. */
function several(values: unknown): readonly unknown[] {
  if (!Array.isArray(values)) throw new RuleError(`oneOf takes a list of values, not ${show(values)}.`)
  assertWithin('values of this type in oneOf', values.length, LIMITS.comparedValues)
  return Array.from(values)
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
  if (!(Math.abs(plusSeconds) <= LIMITS.momentSeconds)) {
    throw new RuleError(`now cannot be moved by ${show(plusSeconds)} seconds; at most ${LIMITS.momentSeconds}.`)
  }
  const source: Source = { shape: { type: 'timestamp' }, operand: { kind: 'now', plusSeconds }, level: 0, steps: [] }
  return Object.freeze({
    ...(term(source) as OrderedTerm<Date>),
    plus: (span: Span) => moment(plusSeconds + secondsIn(span)),
    minus: (span: Span) => moment(plusSeconds - secondsIn(span)),
  })
}

const secondsIn = ({ days = 0, hours = 0, minutes = 0, seconds = 0 }: Span): number =>
  ((days * 24 + hours) * 60 + minutes) * 60 + seconds

/** Whether something is a term, made here, rather than a bare value. */
export const isTerm = (other: unknown): other is Term<unknown> => isBranded(other, TERM)

/** A source for what a rule compares with: another term, or a bare value of the expected type. */
export function operandFrom(shape: Shape, other: unknown): Source {
  if (isTerm(other)) return other.source
  if (Array.isArray(other)) assertWithin('items in a list', other.length, LIMITS.listItems)
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

/**
 * Wraps a condition in steps: from `base` to `first`, on to `first + 1`, and so forth.
 *
 * @param chain the field by which the last of them goes on, where it does
 */
export function wrapSteps(
  base: number,
  steps: readonly Relation[],
  first: number,
  chain?: string,
): (inner: Condition) => Condition {
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
        ...(chain !== undefined && at === steps.length - 1 && { chain }),
      }),
      inner,
    )
}
