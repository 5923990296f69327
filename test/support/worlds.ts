import fc from 'fast-check'
import {
  bigInteger,
  boolean,
  type CallerShape,
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
  type Shape,
  text,
  timestamp,
  toPlain,
  type Value,
} from 'pachter'
import { childrenOf, fieldOf, parentsOf } from 'pachter/model'

/** Values that engines are known to see differently. */
const POOLS: Readonly<Record<string, readonly Value[]>> = {
  text: ['a', 'A', 'a ', '', 'ab', 'abc', '0', 'é', 'e\u0301', "o'", '\\', '%', '_', '🌱', '"', 'null'],
  choice: ['draft', 'Draft', 'done'],
  integer: [0, 1, 2, 3, -1, Number.MAX_SAFE_INTEGER],
  bigInteger: [0n, 1n, 2n ** 53n, 2n ** 53n + 1n, -(2n ** 63n), 2n ** 63n - 1n],
  decimal: ['0.10', '0.20', '-1.00', '10.00', '9999999999999999.99'],
  boolean: [true, false],
  timestamp: [
    '2026-03-01T00:00:00.000Z',
    '2026-03-01T00:00:00.001Z',
    '2026-11-23T09:00:00.000Z',
    '1969-12-31T23:59:59.999Z',
  ].map((iso) => new Date(iso)),
}

const LISTS: readonly Value[] = [[], ['a'], ['A', 'b'], ['a', 'a '], ['é']]
const NUMBERS: readonly Value[] = [[], [1], [2, 3]]

const valuesFor = ({ type, item }: Shape): readonly Value[] =>
  type === 'list' ? (item === 'integer' ? NUMBERS : LISTS) : (POOLS[type] as readonly Value[])

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

const CALLER: CallerShape = {
  attributes: {
    id: { type: 'integer' },
    text: { type: 'text', optional: true },
    bigInteger: { type: 'bigInteger', optional: true },
    texts: { type: 'list', item: 'text', optional: true },
  },
  roles: ['a', 'A', 'chief'],
  implies: { chief: ['a'] },
  abilities: {},
  channels: ['web'],
  record: { table: 'people', roles: 'duties' },
}

const IDS = [1, 2, 3]
const TEXT_IDS = ['a', 'A', 'a ']

const recordOf = (model: ModelData, table: string): fc.Arbitrary<Record<string, unknown>> => {
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

const dataOf = (model: ModelData): fc.Arbitrary<Data> =>
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

const kindOf = ({ type }: Shape): string => (type === 'choice' ? 'text' : type)

/** Any condition on a record of the last of these tables, or on those around it. */
function conditionOn(
  model: ModelData,
  levels: readonly string[],
  depth: number,
  mays: boolean,
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
          : operand.name === 'roles'
            ? { type: 'list', item: 'text' }
            : (CALLER.attributes[operand.name] as Shape)
  const callers: Operand[] = ['id', 'text', 'bigInteger', 'texts', 'roles'].map((name) => ({ kind: 'caller', name }))
  const like = (shape: Shape): fc.Arbitrary<Operand> =>
    fc.oneof(
      fc
        .constantFrom(...valuesFor(shape))
        .map((value): Operand => ({ kind: 'value', shape, value: toPlain(shape, value) })),
      fc.constantFrom(
        ...[...own, ...callers].filter(
          (each) =>
            kindOf(shapeOf(each)) === kindOf(shape) && (shapeOf(each).item ?? 'text') === (shape.item ?? 'text'),
        ),
      ),
    )
  const leaf = fc.constantFrom(...own).chain((left): fc.Arbitrary<Condition> => {
    const shape = shapeOf(left)
    const compare = (how: string, right: fc.Arbitrary<Operand>): fc.Arbitrary<Condition> =>
      right.map((each) => ({ kind: 'compare', how, left, right: each }) as Condition)
    const isSet = fc.constant<Condition>({ kind: 'isSet', operand: left })
    if (shape.type === 'list') {
      const item = fc.constantFrom(...valuesFor({ type: shape.item ?? 'text' }))
      const includes = item.map((value): Condition => ({
        kind: 'compare',
        how: 'in',
        left: { kind: 'value', shape: { type: shape.item ?? 'text' }, value: value as string },
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
    if (shape.type === 'boolean') return fc.oneof(is, isSet)
    const moment = fc.constantFrom(0, -86_400, 1).map((plusSeconds): Operand => ({ kind: 'now', plusSeconds }))
    const right = shape.type === 'timestamp' ? fc.oneof(like(shape), moment) : like(shape)
    return fc.oneof(is, isSet, ...['below', 'atMost', 'above', 'atLeast'].map((how) => compare(how, right)))
  })
  if (depth === 0) return leaf
  const inner = conditionOn(model, levels, depth - 1, mays)
  const level = levels.length - 1
  const table = levels[level] as string
  const steps = [...parentsOf(model, table), ...childrenOf(model, table)].map((step) =>
    conditionOn(model, [...levels, step.table], depth - 1, false).map((where): Condition => ({
      kind: 'some',
      relation: step.name,
      table: step.table,
      from: { kind: 'field', level, name: step.from },
      to: { level: level + 1, field: step.to },
      one: step.one,
      where,
    })),
  )
  const upToBox = parentsOf(model, table)
    .filter((step) => mays && step.table === 'boxes')
    .map((step) =>
      fc.constant<Condition>({
        kind: 'some',
        relation: step.name,
        table: step.table,
        from: { kind: 'field', level, name: step.from },
        to: { level: level + 1, field: step.to },
        one: true,
        where: { kind: 'may', level: level + 1, table: 'boxes', action: 'read' },
      }),
    )
  return fc.oneof(
    leaf,
    inner.map((of): Condition => ({ kind: 'not', of })),
    fc
      .tuple(fc.constantFrom('all' as const, 'any' as const), fc.array(inner, { maxLength: 3 }))
      .map(([kind, of]): Condition => ({ kind, of })),
    ...steps,
    ...upToBox,
  )
}

const about = fc.constantFrom<Condition>(
  { kind: 'always' },
  { kind: 'signedIn' },
  { kind: 'role', anyOf: ['a'] },
  { kind: 'role', anyOf: ['A'] },
  { kind: 'channel', anyOf: ['web'] },
)

function rulesOn(model: ModelData, table: string): fc.Arbitrary<Rulebook['tables'][string]> {
  const names = Object.keys(model.tables[table]?.fields ?? {})
  const condition = conditionOn(model, [table], 2, table === 'items')
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
      after: condition,
    },
    { requiredKeys: ['to'] },
  )
  const grants = fc.array(grant, { maxLength: 3 })
  const deny = fc.record({
    on: fc.subarray(['read', 'list', 'update', 'delete', 'create', 'settle'], { minLength: 1 }),
    when: condition,
    except: fc.array(who, { maxLength: 1 }),
    message: fc.constant('Denied.'),
  })
  return fc.record({
    actions: fc.constant(['settle']),
    ties: fc.record({ first: condition, second: condition }),
    grants: fc.record({
      read: fc.array(grant, { minLength: 1, maxLength: 3 }),
      list: grants,
      get: grants,
      create: grants,
      update: grants,
      delete: grants,
      settle: grants,
    }),
    denies: fc.oneof({ weight: 2, arbitrary: fc.constant({}) }, { weight: 1, arbitrary: fc.record({ deny }) }),
    stamps: fc.constant({}),
    checks: fc.record({
      fields: fc.constant({}),
      records: fc.oneof(
        { weight: 3, arbitrary: fc.constant({}) },
        { weight: 1, arbitrary: condition.map((that) => ({ check: { that, message: 'must fit', fields: ['id'] } })) },
      ),
    }),
  }) as fc.Arbitrary<Rulebook['tables'][string]>
}

const callers = fc.oneof(
  fc.constant({ anonymous: true }),
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
const valuesFrom = (record: Record<string, unknown>, action: (typeof ACTIONS)[number]) => {
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
      caller: callers,
      table: fc.constant(table),
      action: fc.constant(action),
      key: fc.constantFrom<unknown>(...(isText ? [...TEXT_IDS, 'z'] : [...IDS, 4])),
      values: recordOf(model, table).chain((record) => valuesFrom(record, action)),
    })
  })

/** Draws worlds with this many attempts each. */
export const worlds = (attempts: number): fc.Arbitrary<World> =>
  models.chain((model) =>
    fc
      .record({
        items: rulesOn(model, 'items'),
        boxes: rulesOn(model, 'boxes'),
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
