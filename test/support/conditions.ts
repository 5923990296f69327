import fc from 'fast-check'
import { all, any, type Condition, not } from 'pachter'
import type { Operand } from 'pachter/condition'
import { fromPlain, type ModelData, type Relation, type Shape, toPlain } from 'pachter/model'
import { childrenOf, fieldOf, parentsOf } from 'pachter/model'
import { KNOWN, knownAs } from './callers.js'
import { literal, valuesFor } from './values.js'

const kindOf = ({ type }: Shape): string => (type === 'choice' ? 'text' : type)

/** That a step from a record at this level leads to one of which this holds. */
export const stepTo = ({ name, table, from, to, one }: Relation, level: number, where: Condition): Condition => ({
  kind: 'some',
  relation: name,
  table,
  from: { kind: 'field', level, name: from },
  to: { level: level + 1, field: to },
  one,
  where,
})

/** What can be asked about a record, whatever stands in it. */
const KINDS: readonly Condition[] = [
  { kind: 'signedIn' },
  ...['a', 'A', 'chief'].map((role): Condition => ({ kind: 'role', anyOf: [role] })),
  { kind: 'channel', anyOf: ['web'] },
]

/**
 * Any condition on a record of the last of these tables, or on those around it.
 *
 * @param mays the tables of which it may ask what may be done to their records
 * @param rules whether it may name the caller and the moment, as a `where` does not
 */
export function conditionOn(
  model: ModelData,
  levels: readonly string[],
  depth: number,
  mays: readonly string[],
  rules = true,
): fc.Arbitrary<Condition> {
  const own = levels
    .map((table, level) =>
      Object.keys(model.tables[table]?.fields ?? {}).map((name): Operand => ({ kind: 'field', level, name })),
    )
    .flat()
  const shapeOf = (operand: Operand): Shape =>
    operand.kind === 'field'
      ? fieldOf(model, levels[operand.level] as string, operand.name)
      : operand.kind === 'value'
        ? operand.shape
        : operand.kind === 'now'
          ? { type: 'timestamp' }
          : knownAs(model, operand.name)
  const callers = rules ? KNOWN.map((name): Operand => ({ kind: 'caller', name })) : []
  const like = (shape: Shape): fc.Arbitrary<Operand> => {
    const alike = [...own, ...callers].filter(
      (each) => kindOf(shapeOf(each)) === kindOf(shape) && (shapeOf(each).item ?? 'text') === (shape.item ?? 'text'),
    )
    const values = fc.constantFrom(...valuesFor(shape)).map((value) => literal(shape, value))
    return alike.length > 0 ? fc.oneof(values, fc.constantFrom(...alike)) : values
  }
  const known = [...KINDS, ...callers.map((operand): Condition => ({ kind: 'isSet', operand }))]
  const about = fc.constantFrom(...own).chain((left): fc.Arbitrary<Condition> => {
    const shape = shapeOf(left)
    const compare = (how: string, right: fc.Arbitrary<Operand>): fc.Arbitrary<Condition> =>
      right.map((each) => ({ kind: 'compare', how, left, right: each }) as Condition)
    const isSet = fc.constant<Condition>({ kind: 'isSet', operand: left })
    if (shape.type === 'list') {
      const item = fc.constantFrom(...valuesFor({ type: shape.item ?? 'text' }))
      const includes = item.map((value): Condition => ({
        kind: 'compare',
        how: 'in',
        left: {
          kind: 'value',
          shape: { type: shape.item ?? 'text' },
          value: toPlain({ type: shape.item ?? 'text' }, value),
        },
        right: left,
      }))
      return fc.oneof(isSet, includes, compare('overlaps', like(shape)), compare('includesAll', like(shape)))
    }
    const is = compare('is', like(shape))
    if (kindOf(shape) === 'text') {
      const some = fc.array(fc.constantFrom(...valuesFor(shape)), { maxLength: 3 })
      const oneOf = some.map((value): Operand => ({
        kind: 'value',
        shape: { type: 'list', item: 'text' },
        value: value as string[],
      }))
      return fc.oneof(
        is,
        isSet,
        compare('in', fc.oneof(oneOf, like({ type: 'list', item: 'text' }))),
        compare('startsWith', like({ type: 'text' })),
      )
    }
    if (shape.type === 'boolean' || shape.type === 'bytes') return fc.oneof(is, isSet)
    if (shape.type === 'json') return isSet
    if (shape.type === 'uuid') {
      const some = fc.array(fc.constantFrom(...valuesFor(shape)), { maxLength: 2 })
      const oneOf = some.map((value): Operand => ({
        kind: 'value',
        shape: { type: 'list', item: 'uuid' },
        value: value as string[],
      }))
      return fc.oneof(is, isSet, compare('in', fc.oneof(oneOf, like({ type: 'list', item: 'uuid' }))))
    }
    const moment = fc.constantFrom(0, -86_400, 1).map((plusSeconds): Operand => ({ kind: 'now', plusSeconds }))
    const right = shape.type === 'timestamp' && rules ? fc.oneof(like(shape), moment) : like(shape)
    return fc.oneof(is, isSet, ...['below', 'atMost', 'above', 'atLeast'].map((how) => compare(how, right)))
  })
  const leaf = rules
    ? fc.oneof({ weight: 12, arbitrary: about }, { weight: 1, arbitrary: fc.constantFrom(...known) })
    : about
  if (depth === 0) return leaf
  const inner = conditionOn(model, levels, depth - 1, mays, rules)
  const level = levels.length - 1
  const table = levels[level] as string
  const steps = [...parentsOf(model, table), ...childrenOf(model, table)].map((step) =>
    conditionOn(model, [...levels, step.table], depth - 1, [], rules).map((where) => stepTo(step, level, where)),
  )
  // What is above, where a box stands in a box: nothing can be asked of the record it starts from.
  const alone = [...levels.map(() => ''), 'boxes']
  const chains = parentsOf(model, table)
    .filter((step) => step.table === 'boxes')
    .map((step) => {
      const inside = conditionOn(model, alone, depth - 1, [], rules)
      // What each on the way has to meet as well, only a rulebook that is given as data says.
      return fc
        .tuple(inside, rules ? fc.option(inside, { nil: undefined, freq: 2 }) : fc.constant(undefined))
        .map(
          ([where, through]) =>
            ({ ...stepTo(step, level, where), chain: 'insideId', ...(through && { through }) }) as Condition,
        )
    })
  const toOpen = [...parentsOf(model, table), ...childrenOf(model, table)]
    .filter((step) => mays.includes(step.table))
    .map((step) =>
      fc
        .constantFrom('read', 'list', 'update', 'delete', 'settle')
        .map((action) => stepTo(step, level, { kind: 'may', level: level + 1, table: step.table, action })),
    )
  return fc.oneof(
    leaf,
    inner.map((of): Condition => ({ kind: 'not', of })),
    fc
      .tuple(fc.constantFrom('all' as const, 'any' as const), fc.array(inner, { maxLength: 3 }))
      .map(([kind, of]): Condition => ({ kind, of })),
    ...steps,
    ...chains,
    ...toOpen,
  )
}

/** Any condition on records of the same table that one or two steps lead to, of which the record itself can be one. */
export function besideOn(model: ModelData, table: string): fc.Arbitrary<Condition> {
  const stepsFrom = (of: string) => [...parentsOf(model, of), ...childrenOf(model, of)]
  const ways = stepsFrom(table).flatMap((first) =>
    first.table === table
      ? [[first]]
      : stepsFrom(first.table).flatMap((second) => (second.table === table ? [[first, second]] : [])),
  )
  return fc.constantFrom(...ways).chain((way) => {
    const levels = [table, ...way.map((step) => step.table)]
    return conditionOn(model, levels, 0, []).map((where) =>
      way.reduceRight((inner, step, level) => stepTo(step, level, inner), where),
    )
  })
}

/** A row as a `where` is given it: fields to compare, steps to other records, `may`. */
type AnyRow = Readonly<Record<string, never>> & { may(action: string): Condition }

/** Builds a drawn condition from rows, as an application would write it. */
export function built(condition: Condition, rows: readonly AnyRow[]): Condition {
  const term = (operand: Operand) => {
    if (operand.kind === 'value') return fromPlain(operand.shape, operand.value)
    if (operand.kind !== 'field') throw new Error(`A where has no ${operand.kind}.`)
    return (rows[operand.level] as AnyRow)[operand.name]
  }
  type Asked = Readonly<Record<string, (other?: unknown) => Condition>>
  switch (condition.kind) {
    case 'all':
      return all(...condition.of.map((part) => built(part, rows)))
    case 'any':
      return any(...condition.of.map((part) => built(part, rows)))
    case 'not':
      return not(built(condition.of, rows))
    case 'isSet':
      return (term(condition.operand) as Asked)['isSet']?.() as Condition
    case 'may':
      return (rows[condition.level] as AnyRow).may(condition.action)
    case 'compare': {
      const { how, left, right } = condition
      const [from, to] = [term(left) as Asked, term(right) as Asked]
      if (how === 'in' && left.kind === 'value') return to['includes']?.(from) as Condition
      const name = { in: 'oneOf', overlaps: 'includesAny', includesAll: 'includesAll' }[how as 'in'] ?? how
      return from[name]?.(to) as Condition
    }
    case 'some': {
      const { from, relation, one, to, where } = condition
      const row = (rows[(from as { level: number }).level] as AnyRow)[relation] as unknown
      const inside = (inner: AnyRow) => built(where, [...rows.slice(0, to.level), inner])
      if (condition.chain !== undefined) {
        const above = row as { chain(field: string): { some(where: (inner: AnyRow) => Condition): Condition } }
        return above.chain(condition.chain).some(inside)
      }
      // A step that no field is asked of would be none.
      if (one)
        return all(((row as AnyRow)[to.field] as unknown as Asked)['isSet']?.() as Condition, inside(row as AnyRow))
      const many = row as { some(where: (inner: AnyRow) => Condition): Condition; by(field: string): typeof many }
      return many.by(to.field).some(inside)
    }
    default:
      throw new Error(`A where has no ${condition.kind}.`)
  }
}
