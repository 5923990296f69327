import fc from 'fast-check'
import type { Condition, Rulebook } from 'pachter'
import { contains, type Operand } from 'pachter/condition'
import {
  childrenOf,
  comparesAs,
  fieldOf,
  type ModelData,
  parentsOf,
  type Shape,
  tableOf,
  uniquesOf,
  type Value,
} from 'pachter/model'
import { besideOn, conditionOn, stepTo } from './conditions.js'
import { idsFor, literal, valuesFor } from './values.js'

type Rules = Rulebook['tables'][string]

const about = fc.constantFrom<Condition>(
  { kind: 'always' },
  { kind: 'signedIn' },
  { kind: 'role', anyOf: ['a'] },
  { kind: 'role', anyOf: ['A'] },
  { kind: 'channel', anyOf: ['web'] },
)

/** Whether values are not compared with one another. */
const isWhole = ({ type }: Shape): boolean => type === 'list' || type === 'json'

/**
 * @param hidden fields that most grants to read leave out, and most denies look at
 * @param mays the tables of which rules ask what may be done to their records
 */
export function rulesOn(
  model: ModelData,
  table: string,
  hidden: readonly string[] | undefined,
  mays: readonly string[],
): fc.Arbitrary<Rulebook['tables'][string]> {
  const { key, fields: shapes } = tableOf(model, table)
  const names = Object.keys(shapes)
  const isKey = (name: string) => key.includes(name)
  const negated = (each: fc.Arbitrary<Condition>) =>
    fc.tuple(each, fc.boolean()).map(([of, isNot]): Condition => (isNot ? { kind: 'not', of } : of))
  const condition = fc.oneof(
    { weight: 4, arbitrary: conditionOn(model, [table], 2, mays) },
    { weight: 1, arbitrary: negated(besideOn(model, table)) },
  )
  const unchangedOf = (fields: readonly string[]) =>
    fc.constantFrom(...fields).map((field): Condition => ({ kind: 'unchanged', field }))
  const unchanged = unchangedOf(names)
  /** What one of these was, beside what it or another field becomes. */
  const keptOf = (fields: readonly string[]) =>
    fc.constantFrom(...fields).chain((name): fc.Arbitrary<Condition> => {
      const shape = fieldOf(model, table, name)
      const old: Operand = { kind: 'old', name }
      if (isWhole(shape)) return fc.constant({ kind: 'isSet', operand: old })
      const alike = names.filter((other) => comparesAs(fieldOf(model, table, other)) === comparesAs(shape))
      return fc.constantFrom(name, ...alike).map((other): Condition => {
        return { kind: 'compare', how: 'is', left: { kind: 'field', level: 0, name: other }, right: old }
      })
    })
  /** On how a record will be: also on what of it changes. */
  const outcome = fc.oneof(
    { weight: 3, arbitrary: condition },
    { weight: 1, arbitrary: negated(unchanged) },
    { weight: 1, arbitrary: negated(keptOf(names)) },
    {
      weight: 1,
      arbitrary: fc.tuple(condition, negated(unchanged)).map(([...of]): Condition => ({ kind: 'any', of })),
    },
  )
  const who = fc.oneof(
    { weight: 3, arbitrary: fc.constantFrom('first', 'second') },
    { weight: 2, arbitrary: fc.constant<Condition>({ kind: 'always' }) },
    { weight: 1, arbitrary: about },
  )
  const grant = fc.record(
    {
      to: fc.array(who, { minLength: 1, maxLength: 2 }),
      fields: fc.subarray(names),
      when: condition,
      after: outcome,
      gone: fc.constant(true as const),
    },
    { requiredKeys: ['to'] },
  )
  const grants = fc.array(grant, { maxLength: 3 })
  // Rules drawn blindly refuse nearly everything, which proves little: half of the grids are open to all.
  const all = fc.constant([{ to: [{ kind: 'always' }] }])
  const some = fc.array(grant, { minLength: 1, maxLength: 3 })
  const opened = fc.oneof(all, some)
  // Those whom no grant lets learn nothing of denies.
  const written = hidden ? fc.oneof(all, opened, fc.constant([{ to: ['first'] }])) : opened
  /** Where what is hidden matters, nearly always something that hides it. */
  const mostly = <T>(hides: fc.Arbitrary<T>, other: fc.Arbitrary<T>) =>
    hidden ? fc.oneof({ weight: 5, arbitrary: hides }, { weight: 1, arbitrary: other }) : other
  const masked = fc
    .constantFrom<unknown>({ kind: 'always' }, { kind: 'always' }, 'first')
    .map((to) => [{ to: [to], fields: names.filter((name) => !hidden?.includes(name)) }])
  const read = mostly<unknown>(masked, opened)
  const more = hidden ? fc.oneof({ weight: 2, arbitrary: fc.constant([]) }, { weight: 1, arbitrary: grants }) : grants
  /** Who may read: by one grant for lists and single records, or by others for each, and then lists of some show all. */
  const apart = fc.record({ read: fc.constant([]), list: fc.oneof(some, fc.constant([{ to: ['first'] }])), get: read })
  const reading = hidden
    ? fc.oneof({ weight: 3, arbitrary: fc.record({ read, list: more, get: more }) }, { weight: 1, arbitrary: apart })
    : fc.record({ read, list: more, get: more })
  const asksOf = (of: string, fields: readonly string[], level: number) =>
    fc.constantFrom(...fields).chain((name): fc.Arbitrary<Condition> => {
      const field = fieldOf(model, of, name)
      const left: Operand = { kind: 'field', level, name }
      if (isWhole(field)) return fc.constant({ kind: 'isSet', operand: left })
      const pool = field.key || field.references ? idsFor(field) : valuesFor(field)
      const is = fc.constantFrom(...pool).map((value): Condition => {
        const right = literal(field, value as Value)
        return { kind: 'compare', how: 'is', left, right }
      })
      // What holds of about half of all values.
      return fc.oneof(
        is,
        fc.array(is, { minLength: pool.length, maxLength: pool.length }).map((of): Condition => ({ kind: 'any', of })),
      )
    })
  const secrets = hidden?.length ? hidden : names
  const ofRelated = fc.constantFrom(...parentsOf(model, table), ...childrenOf(model, table)).chain((step) => {
    const fields = Object.keys(model.tables[step.table]?.fields ?? {})
    const where = fc.oneof(fc.constant<Condition>({ kind: 'always' }), asksOf(step.table, fields, 1))
    return where.map((each) => stepTo(step, 0, each))
  })
  // Of what is hidden in the record itself, or wherever it leads; of one such thing or either of two.
  const ofHidden = fc.oneof({ weight: 2, arbitrary: asksOf(table, secrets, 0) }, { weight: 1, arbitrary: ofRelated })
  const eitherOf = (each: fc.Arbitrary<Condition>) =>
    fc.array(negated(each), { minLength: 1, maxLength: 2 }).map((of): Condition => ({ kind: 'any', of }))
  const denyOn = (on: readonly string[], when: fc.Arbitrary<Condition>, message = 'Denied.') =>
    fc.record({
      on: fc.subarray([...on], { minLength: hidden ? Math.min(3, on.length) : 1 }),
      when,
      except: fc.array(who, { maxLength: 1 }),
      message: fc.constant(message),
    })
  const writes = ['update', 'delete', 'create', 'settle']
  const deny = mostly(
    fc.oneof(
      { weight: 2, arbitrary: denyOn(writes, eitherOf(ofHidden)) },
      { weight: 1, arbitrary: denyOn(['update', 'settle'], eitherOf(fc.oneof(unchangedOf(secrets), ofHidden))) },
    ),
    fc.oneof(
      denyOn(['read', 'list', ...writes], condition),
      denyOn(['update', 'settle'], fc.oneof(condition, negated(unchanged))),
    ),
  )
  /** One whose message is another, and which all may know of: it strikes every record, and looks at the key alone. */
  const known = fc.constant<Condition>({ kind: 'isSet', operand: { kind: 'field', level: 0, name: key[0] as string } })
  const other = denyOn(writes, hidden ? fc.oneof(known, about) : about, 'Denied, too.')
  // Stamps and what is fixed by them: of the caller, the moment, or a value.
  const stamp = (name: string): fc.Arbitrary<Operand> => {
    const shape = fieldOf(model, table, name)
    const value = fc.constantFrom(...valuesFor(shape)).map((each) => literal(shape, each))
    if (shape.type === 'timestamp') return fc.oneof(value, fc.constant<Operand>({ kind: 'now', plusSeconds: 60 }))
    const isOwn = shape.references === 'people'
    return isOwn ? fc.constant<Operand>({ kind: 'caller', name: 'id' }) : value
  }
  const stampable = names.filter((name) => {
    const { references, filled } = fieldOf(model, table, name)
    return !isKey(name) && !filled && (!references || name === 'ownerId')
  })
  const stampsOf = fc
    .subarray(stampable, { maxLength: 1 })
    .chain((chosen) => fc.record(Object.fromEntries(chosen.map((name) => [name, stamp(name)]))))
  const stamps = fc.oneof(
    { weight: 2, arbitrary: fc.constant({}) },
    { weight: 1, arbitrary: fc.record({ create: stampsOf, update: stampsOf, settle: stampsOf }) },
  )
  // A fence leads back to no table that is fenced; what is gone says so itself.
  const leadsBack = (each: Condition) => contains(each, (part) => part.kind === 'some' && part.table === 'items')
  const drawnFence = conditionOn(model, [table], table === 'items' ? 1 : 0, []).filter((each) => !leadsBack(each))
  // Half of them on a field alone, which some records are beyond and some are not.
  const byField = fc.constantFrom(...names.filter((name) => !isWhole(fieldOf(model, table, name)))).chain((name) => {
    const shape = fieldOf(model, table, name)
    const pool = shape.key || shape.references ? idsFor(shape) : valuesFor(shape)
    const left: Operand = { kind: 'field', level: 0, name }
    return fc.constantFrom(...pool).map((value): Condition => ({
      kind: 'not',
      of: {
        kind: 'compare',
        how: 'is',
        left,
        right: literal(shape, value as Value),
      },
    }))
  })
  const fence = fc.oneof(drawnFence, byField)
  const flags = names.filter((name) => {
    const { references, filled } = fieldOf(model, table, name)
    return !isKey(name) && !references && !filled
  })
  const gone = fc.constantFrom(...flags).chain((name) => {
    const shape = fieldOf(model, table, name)
    const left: Operand = { kind: 'field', level: 0, name }
    const value = fc.constantFrom(...valuesFor(shape)).map((each) => literal(shape, each))
    const whenSet = negated(fc.constant<Condition>({ kind: 'isSet', operand: left }))
    const whenSo = value.map((right): Condition => ({ kind: 'compare', how: 'is', left, right }))
    const when = shape.optional ? whenSet : isWhole(shape) ? whenSet : whenSo
    // What a delete sets of what is unique tells by its effect, and is refused.
    const isUnique = uniquesOf(model, table).flat().includes(name)
    const onDelete = value.map((each) => ({ [name]: each }))
    return fc.record({ when, ...(!isWhole(shape) && !isUnique && { onDelete }) })
  })
  const rare = <T>(each: fc.Arbitrary<T>) =>
    fc.oneof({ weight: 2, arbitrary: fc.constant(undefined) }, { weight: 1, arbitrary: each })
  const fixed = fc
    .constantFrom(...names.filter((name) => !isKey(name)))
    .map((name) => ({ [name]: { onUpdate: 'forbidden' } }))
  const checkOf = (fields: readonly string[], message: string) =>
    mostly(fc.oneof(negated(ofRelated), negated(keptOf(secrets))), outcome).map((that) => ({ that, message, fields }))
  const drawn = fc.tuple(rare(fence), rare(gone)).chain(([fenced, leaving]) =>
    fc.record({
      ...(fenced && { fence: fc.constant(fenced) }),
      ...(leaving && { gone: fc.constant(leaving) }),
      actions: fc.constant(['settle']),
      ties: fc.record({ first: condition, second: condition }),
      grants: fc
        .tuple(reading, fc.record({ create: written, update: written, delete: written, settle: written }))
        .map(([reads, writes]) => ({ ...reads, ...writes })),
      denies: fc.oneof(
        { weight: hidden ? 1 : 2, arbitrary: fc.constant({}) },
        { weight: hidden ? 3 : 1, arbitrary: fc.record({ deny, other }, { requiredKeys: ['deny'] }) },
      ),
      stamps,
      ...(!hidden && { conflicts: fc.constant('told') }),
      checks: fc.record({
        fields: rare(fixed).map((each) => each ?? {}),
        records: fc.oneof(
          { weight: hidden ? 2 : 3, arbitrary: fc.constant({}) },
          {
            weight: 1,
            arbitrary: fc.record(
              { check: checkOf([key[0] as string], 'must fit'), further: checkOf([], 'must fit, too') },
              { requiredKeys: ['check'] },
            ),
          },
        ),
      }),
    }),
  ) as fc.Arbitrary<Rules>
  return drawn.map((rules) => (rules.gone ? rules : { ...rules, grants: withoutGone(rules.grants) }))
}

/** Only where records can be gone do grants name those. */
const withoutGone = (grants: Rules['grants']): Rules['grants'] =>
  Object.fromEntries(Object.entries(grants).map(([action, all]) => [action, all.map(({ gone: _, ...grant }) => grant)]))
