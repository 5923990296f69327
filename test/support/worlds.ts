import fc from 'fast-check'
import {
  anonymous,
  bigInteger,
  boolean,
  choice,
  type Condition,
  type Data,
  decimal,
  defineModel,
  integer,
  list,
  type ModelData,
  type Operand,
  references,
  type Rulebook,
  text,
  timestamp,
  toPlain,
} from 'pachter'
import { fieldOf } from 'pachter/model'
import { CALLER, conditionOn, LISTS, POOLS, valuesFor } from './conditions.js'

export const NOW = new Date('2026-11-23T09:00:00.000Z')

const builders = {
  text: () => text(),
  choice: () => choice('draft', 'Draft', 'done'),
  integer: () => integer(),
  bigInteger: () => bigInteger(),
  decimal: () => decimal(2),
  boolean: () => boolean(),
  timestamp: () => timestamp(),
  texts: () => list(text()),
  numbers: () => list(integer()),
}

const fields = fc
  .array(fc.tuple(fc.constantFrom(...(Object.keys(builders) as (keyof typeof builders)[])), fc.boolean()), {
    minLength: 1,
    maxLength: 4,
  })
  .map((drawn) =>
    Object.fromEntries(
      drawn.map(([type, optional], at) => [`${type}${at}`, optional ? builders[type]().optional() : builders[type]()]),
    ),
  )

/** People own boxes and items, items lie in boxes, and are shared with people: keys are numbers or texts. */
const models: fc.Arbitrary<ModelData> = fc
  .record({ people: fields, boxes: fields, items: fields, named: fc.boolean() })
  .map(({ people, boxes, items, named }) =>
    defineModel({
      people: { id: integer().key(), duties: list(text()), ...people },
      boxes: { id: named ? text().key() : integer().key(), keeperId: references('people').optional(), ...boxes },
      items: {
        id: integer().key(),
        ownerId: references('people').optional(),
        boxId: references('boxes').optional(),
        ...items,
      },
      shares: { itemId: references('items').key(), personId: references('people').key(), ...items },
    } as never),
  )

export const IDS = [1, 2, 3]
export const TEXT_IDS = ['a', 'A', 'a ']

export const recordOf = (model: ModelData, table: string): fc.Arbitrary<Record<string, unknown>> => {
  const { fields: all } = model.tables[table] as ModelData['tables'][string]
  return fc.record(
    Object.fromEntries(
      Object.entries(all).map(([name, field]) => {
        const pool = field.key || field.references ? (field.type === 'text' ? TEXT_IDS : IDS) : valuesFor(field)
        const value = fc.constantFrom<unknown>(...pool)
        return [name, field.optional ? fc.oneof(fc.constant(null), value) : value]
      }),
    ),
  )
}

export const dataOf = (model: ModelData): fc.Arbitrary<Data> =>
  fc.record(
    Object.fromEntries(
      Object.entries(model.tables).map(([name, { key }]) => [
        name,
        fc.uniqueArray(recordOf(model, name), {
          maxLength: 4,
          selector: (record) => JSON.stringify(key.map((each) => record[each])),
        }),
      ]),
    ),
  )

const about = fc.constantFrom<Condition>(
  { kind: 'always' },
  { kind: 'signedIn' },
  { kind: 'role', anyOf: ['a'] },
  { kind: 'role', anyOf: ['A'] },
  { kind: 'channel', anyOf: ['web'] },
)

function rulesOn(model: ModelData, table: string, told: boolean): fc.Arbitrary<Rulebook['tables'][string]> {
  const names = Object.keys(model.tables[table]?.fields ?? {})
  const condition = conditionOn(model, [table], 2, table === 'items')
  const unchanged = fc.constantFrom(...names).map((field): Condition => ({ kind: 'unchanged', field }))
  const kept = fc.constantFrom(...names).map((name): Condition => {
    const isList = fieldOf(model, table, name).type === 'list'
    const old: Operand = { kind: 'old', name }
    return isList
      ? { kind: 'isSet', operand: old }
      : { kind: 'compare', how: 'is', left: { kind: 'field', level: 0, name }, right: old }
  })
  const negated = (each: fc.Arbitrary<Condition>) =>
    fc.tuple(each, fc.boolean()).map(([of, isNot]): Condition => (isNot ? { kind: 'not', of } : of))
  /** On how a record will be: also on what of it changes. */
  const outcome = fc.oneof(
    { weight: 3, arbitrary: condition },
    { weight: 1, arbitrary: negated(unchanged) },
    { weight: 1, arbitrary: negated(kept) },
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
    },
    { requiredKeys: ['to'] },
  )
  const grants = fc.array(grant, { maxLength: 3 })
  // Rules drawn blindly refuse nearly everything, which proves little: half of the grids are open to all.
  const all = fc.constant([{ to: [{ kind: 'always' }] }])
  // Where what is hidden matters, records that everybody sees, but not all of.
  const masked = fc.subarray(names).map((fields) => [{ to: [{ kind: 'always' }], fields }])
  const some = fc.array(grant, { minLength: 1, maxLength: 3 })
  const opened = fc.oneof(all, some)
  const readable = told ? opened : fc.oneof({ weight: 3, arbitrary: masked }, { weight: 1, arbitrary: opened })
  const denyOn = (on: readonly string[], when: fc.Arbitrary<Condition>) =>
    fc.record({
      on: fc.subarray([...on], { minLength: 1 }),
      when,
      except: fc.array(who, { maxLength: 1 }),
      message: fc.constant('Denied.'),
    })
  const denies = fc.oneof(
    denyOn(['read', 'list', 'update', 'delete', 'create', 'settle'], condition),
    denyOn(['update', 'settle'], fc.oneof(condition, negated(unchanged))),
  )
  // Stamps and what is fixed by them: of the caller, the moment, or a value.
  const stamp = (name: string): fc.Arbitrary<Operand> => {
    const shape = fieldOf(model, table, name)
    const value = fc.constantFrom(...valuesFor(shape)).map((each): Operand => ({
      kind: 'value',
      shape,
      value: toPlain(shape, each),
    }))
    if (shape.type === 'timestamp') return fc.oneof(value, fc.constant<Operand>({ kind: 'now', plusSeconds: 60 }))
    const isOwn = shape.type === 'integer' && shape.references === 'people'
    return isOwn ? fc.constant<Operand>({ kind: 'caller', name: 'id' }) : value
  }
  const stampable = names.filter(
    (name) => name !== 'id' && (!fieldOf(model, table, name).references || name === 'ownerId'),
  )
  const stampsOf = fc
    .subarray(stampable, { maxLength: 1 })
    .chain((chosen) => fc.record(Object.fromEntries(chosen.map((name) => [name, stamp(name)]))))
  const stamps = fc.oneof(
    { weight: 2, arbitrary: fc.constant({}) },
    { weight: 1, arbitrary: fc.record({ create: stampsOf, update: stampsOf, settle: stampsOf }) },
  )
  return fc.record({
    actions: fc.constant(['settle']),
    ties: fc.record({ first: condition, second: condition }),
    grants: fc.record({
      read: readable,
      list: grants,
      get: grants,
      create: opened,
      update: opened,
      delete: opened,
      settle: opened,
    }),
    denies: fc.oneof({ weight: 2, arbitrary: fc.constant({}) }, { weight: 1, arbitrary: fc.record({ deny: denies }) }),
    stamps,
    ...(told && { conflicts: fc.constant('told') }),
    checks: fc.record({
      fields: fc.constant({}),
      records: fc.oneof(
        { weight: 3, arbitrary: fc.constant({}) },
        { weight: 1, arbitrary: outcome.map((that) => ({ check: { that, message: 'must fit', fields: ['id'] } })) },
      ),
    }),
  }) as fc.Arbitrary<Rulebook['tables'][string]>
}

export const someone = fc.oneof(
  fc.constant(anonymous),
  fc.record(
    {
      id: fc.constantFrom(...IDS),
      text: fc.constantFrom(...(POOLS['text'] as string[])),
      bigInteger: fc.constantFrom(...(POOLS['bigInteger'] as bigint[])),
      texts: fc.constantFrom(...(LISTS as string[][])),
      roles: fc.subarray(['a', 'A', 'chief']),
      channel: fc.constant('web'),
    },
    { requiredKeys: ['id'] },
  ),
)

/** Something a caller tries. */
export interface Attempt {
  readonly caller: object
  readonly table: string
  readonly action: 'create' | 'update' | 'delete' | 'settle'
  readonly key: unknown
  readonly values: Record<string, unknown>
}

/** A rulebook, data that fits it, and what callers try. */
export interface World {
  readonly rulebook: Rulebook
  readonly data: Data
  readonly attempts: readonly Attempt[]
}

const TABLES = ['items', 'boxes']

const ACTIONS = ['create', 'update', 'update', 'delete', 'settle'] as const

/** A create gives whole records, most of the time; a change some fields, seldom the key. */
export const valuesFrom = (record: Record<string, unknown>, action: (typeof ACTIONS)[number]) => {
  const names = Object.keys(record)
  const some = fc.subarray(action === 'create' ? names : names.filter((name) => name !== 'id'), { maxLength: 2 })
  const chosen = fc.oneof(
    { weight: 6, arbitrary: action === 'create' ? fc.constant(names) : some },
    { weight: 1, arbitrary: fc.subarray(names) },
  )
  return chosen.map((each) => Object.fromEntries(each.map((name) => [name, record[name]])))
}

const attemptOn = (model: ModelData): fc.Arbitrary<Attempt> =>
  fc.tuple(fc.constantFrom(...TABLES), fc.constantFrom(...ACTIONS)).chain(([table, action]) => {
    const isText = fieldOf(model, table, 'id').type === 'text'
    return fc.record({
      caller: someone,
      table: fc.constant(table),
      action: fc.constant(action),
      key: fc.constantFrom<unknown>(...(isText ? [...TEXT_IDS, 'z'] : [...IDS, 4])),
      values: recordOf(model, table).chain((record) => valuesFrom(record, action)),
    })
  })

/**
 * Draws worlds with this many attempts each.
 *
 * @param told whether the rules let it be told that a key is taken, or a reference leads nowhere
 */
export const worlds = (attempts: number, told = true): fc.Arbitrary<World> =>
  models.chain((model) =>
    fc
      .record({
        items: rulesOn(model, 'items', told),
        boxes: rulesOn(model, 'boxes', told),
        data: dataOf(model),
        attempts: fc.array(attemptOn(model), { minLength: attempts, maxLength: attempts }),
      })
      .map(({ items, boxes, data, attempts: drawn }) => ({
        rulebook: {
          format: 'pachter-rulebook',
          version: 1,
          model,
          caller: CALLER,
          tables: { items, boxes },
        } as Rulebook,
        data,
        attempts: drawn,
      })),
  )
