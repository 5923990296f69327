import fc from 'fast-check'
import {
  bigInteger,
  boolean,
  bytes,
  choice,
  type Data,
  date,
  decimal,
  defineModel,
  float,
  integer,
  json,
  list,
  references,
  type Rulebook,
  text,
  time,
  timestamp,
  uuid,
} from 'pachter'
import { type Field, type FieldData, fieldOf, type ModelData, tableOf, uniquesOf } from 'pachter/model'
import { callerOf, someoneIn } from './callers.js'
import { rulesOn } from './drawn-rules.js'
import { FILLED, filledIn, givable, foreseen } from './filled.js'
import { keysFor, strangerTo, withoutKey } from './keys.js'
import { idsFor, valuesFor } from './values.js'

export const NOW = new Date('2026-11-23T09:00:00.000Z')

const builders = {
  text: () => text(),
  choice: () => choice('draft', 'Draft', 'done'),
  integer: () => integer(),
  bigInteger: () => bigInteger(),
  decimal: () => decimal(2),
  boolean: () => boolean(),
  float: () => float(),
  date: () => date(),
  time: () => time(),
  uuid: () => uuid(),
  bigs: () => list(bigInteger()),
  bytes: () => bytes(),
  json: () => json(),
  uuids: () => list(uuid()),
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

/** How a model is stored: as it is written, by a convention, in each other's place, or under names that need their quotes. */
const STORED = ['asWritten', 'snakeCase', 'crossed', 'odd'] as const

type AnyTables = Record<string, Record<string, Field>>

/** Each field under the name of the next, so that none is ever found by its own. */
function crossed(tables: AnyTables, called: (name: string, next: string) => string): AnyTables {
  const renamed = (fields: Record<string, Field>) => {
    const names = Object.keys(fields)
    const next = (at: number) => names[(at + 1) % names.length] as string
    return Object.fromEntries(
      Object.entries(fields).map(([name, field], at) => [name, field.storedAs(called(name, next(at)))]),
    )
  }
  return Object.fromEntries(Object.entries(tables).map(([name, each]) => [name, renamed(each)]))
}

function stored(tables: AnyTables, how: (typeof STORED)[number]): ModelData {
  if (how === 'asWritten' || how === 'snakeCase') return defineModel(tables as never, { naming: how })
  if (how === 'crossed')
    return defineModel(crossed(tables, (_, next) => next) as never, {
      tables: { items: 'boxes', boxes: 'items' } as never,
    })
  return defineModel(crossed(tables, (name) => `${name}. "a" \`b\` 'c' ?$1`) as never, {
    schema: 'the "odd" `one`',
    tables: { people: { name: 'order' }, boxes: 'Select "x"', shares: { schema: "another 'odd'" } } as never,
  })
}

/**
 * People own boxes and items, items lie in boxes, and are shared with people: keys are numbers, texts or uuids.
 *
 * @param own more fields of boxes and items
 */
const models = (own: object): fc.Arbitrary<ModelData> =>
  fc
    .record({
      people: fields,
      boxes: fields,
      items: fields,
      named: fc.constantFrom(text, integer, uuid),
      called: fc.constantFrom(integer, text, uuid),
      how: fc.constantFrom(...STORED),
      isFilled: fc.constantFrom(true, false, false),
      isTwice: fc.constantFrom(true, false, false),
    })
    .map(({ people, boxes, items, named, called, how, isFilled, isTwice }) =>
      stored(
        {
          people: { id: called().key(), duties: list(text()), ...own, ...people, ...(isFilled && FILLED) },
          boxes: {
            id: named().key(),
            keeperId: references('people').optional(),
            insideId: references('boxes').optional(),
            ...own,
            ...boxes,
            ...(isFilled && FILLED),
          },
          items: {
            id: integer().key(),
            ownerId: references('people').optional(),
            boxId: references('boxes').optional(),
            // Two ways from one table to another: which of them is meant has to be said.
            ...(isTwice && { lentToId: references('people').optional() }),
            ...own,
            ...items,
            ...(isFilled && FILLED),
          },
          shares: { itemId: references('items').key(), personId: references('people').key(), ...items },
        } as never,
        how,
      ),
    )

export const recordOf = (model: ModelData, table: string): fc.Arbitrary<Record<string, unknown>> => {
  const { fields: all } = model.tables[table] as ModelData['tables'][string]
  const drawn = fc.record(
    Object.fromEntries(
      Object.entries(all).map(([name, field]) => {
        const pool = field.key || field.references ? idsFor(field) : valuesFor(field)
        // Each document is one of its own.
        const value = fc
          .constantFrom<unknown>(...pool)
          .map((each) => (field.type === 'json' ? { ...(each as object) } : each))
        return [name, field.optional ? fc.oneof(fc.constant(null), value, value) : value]
      }),
    ),
  )
  return drawn.map((record) => filledIn(model, table, record))
}

/** @param isFull whether there are so many records that most references lead somewhere */
export const dataOf = (model: ModelData, isFull: boolean): fc.Arbitrary<Data> =>
  fc.record(
    Object.fromEntries(
      Object.entries(model.tables).map(([name, { key }]) => {
        const records = fc.uniqueArray(recordOf(model, name), {
          minLength: isFull ? 2 : 0,
          maxLength: 4,
          selector: (record) => JSON.stringify(key.map((each) => record[each])),
        })
        return [
          name,
          records.map((all) =>
            all.map((each, at) => (isUnique(model, name, all, at) ? each : unmarked(model, name, each))),
          ),
        ]
      }),
    ),
  )

/** A mark that no two records share. */
const MARK = 'mark'

const unmarked = (model: ModelData, table: string, record: Record<string, unknown>) =>
  Object.fromEntries(
    Object.entries(record).map(([name, value]) => [name, fieldOf(model, table, name).unique ? null : value]),
  )

const word = choice('draft', 'Draft', 'done').optional()

/** What is unique on its own; and within others, in one way or in several that share a field. */
const ALONE = { [MARK]: word.unique() }
const WITHIN: readonly object[] = [
  { [MARK]: word.unique('side'), side: word },
  { [MARK]: word.unique('side'), side: word, other: word.unique('side') },
  { [MARK]: word.unique('side', 'other'), side: word.unique('other'), other: word },
]

/** Whether no record before this one has what is unique alike. */
export const isUnique = (
  model: ModelData,
  table: string,
  records: readonly Readonly<Record<string, unknown>>[],
  at: number,
): boolean =>
  uniquesOf(model, table).every((names) => {
    const isThere = names.every((name) => typeof records[at]?.[name] === 'string')
    return !isThere || !records.slice(0, at).some((each) => names.every((name) => each[name] === records[at]?.[name]))
  })

/** Whether any value can be given to a field: what leads elsewhere, or could be taken, is mostly nobody's to give. */
export const isFree = ({ references, unique }: FieldData): boolean => !references && !unique

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

/** The tables that have rules. */
export const TABLES = ['items', 'boxes', 'shares', 'people'] as const

/** Where nobody may do anything. */
const CLOSED: Rulebook['tables'][string] = {
  actions: ['settle'],
  ties: {},
  grants: {},
  denies: {},
  stamps: {},
  checks: { fields: {}, records: {} },
}

const ACTIONS = ['create', 'update', 'update', 'delete', 'settle'] as const

/** A create gives whole records, most of the time; a change some fields, seldom the key. */
export const valuesFrom = (
  model: ModelData,
  table: string,
  whole: Record<string, unknown>,
  action: (typeof ACTIONS)[number],
) => {
  const record = givable(model, table, whole)
  const names = Object.keys(record)
  const others = Object.keys(withoutKey(model, table, record))
  const most = action === 'create' ? names : others
  const some = fc.subarray(most, { maxLength: Math.min(2, most.length) })
  const chosen = fc.oneof(
    { weight: 6, arbitrary: action === 'create' ? fc.constant(names) : some },
    { weight: 1, arbitrary: fc.subarray(names) },
  )
  return chosen.map((each) => Object.fromEntries(each.map((name) => [name, record[name]])))
}

const attemptOn = (model: ModelData): fc.Arbitrary<Attempt> =>
  fc.tuple(fc.constantFrom(...TABLES), fc.constantFrom(...ACTIONS)).chain(([table, action]) => {
    return fc.record({
      caller: someoneIn(model),
      table: fc.constant(table),
      action: fc.constant(action),
      key: fc.constantFrom<unknown>(...keysFor(model, table), strangerTo(model, table)),
      values: recordOf(model, table).chain((record) => valuesFrom(model, table, record, action)),
    })
  })

/** Of tables further on, or of those before, rules can ask what may be done to their records: else they went round in circles. */
const ORDER = ['shares', 'items', 'boxes', 'people']

/**
 * Draws worlds with this many attempts each.
 *
 * @param secret whether the rules hide much, and do not let it be told that a key is taken or a reference leads nowhere
 * @param within whether what is unique then is so within another field
 */
export const worlds = (attempts: number, secret = false, within = false): fc.Arbitrary<World> => {
  const rules = (model: ModelData, order: readonly string[], table: string) => {
    const names = Object.keys(withoutKey(model, table, tableOf(model, table).fields))
    const mays = order.slice(order.indexOf(table) + 1)
    return secret
      ? fc.subarray(names, { minLength: 1 }).chain((hidden) => rulesOn(model, table, hidden, mays))
      : rulesOn(model, table, undefined, mays)
  }
  const own = within ? fc.constantFrom(...WITHIN) : fc.constant(secret ? ALONE : {})
  return fc.tuple(own.chain(models), fc.constantFrom(ORDER, [...ORDER].reverse())).chain(([model, order]) =>
    foreseen(
      fc
        .record({
          items: rules(model, order, 'items'),
          boxes: rules(model, order, 'boxes'),
          shares: rules(model, order, 'shares'),
          people: fc.oneof(
            { weight: 4, arbitrary: rules(model, order, 'people') },
            { weight: 1, arbitrary: fc.constant(CLOSED) },
          ),
          data: dataOf(model, secret),
          attempts: fc.array(attemptOn(model), { minLength: attempts, maxLength: attempts }),
        })
        .map(({ items, boxes, shares, people, data, attempts: drawn }) => ({
          rulebook: {
            format: 'pachter-rulebook',
            version: 1,
            model,
            caller: callerOf(model),
            tables: { items, boxes, shares, people },
          } as Rulebook,
          data,
          attempts: drawn,
        })),
    ),
  )
}
