import fc from 'fast-check'
import type { Condition, Data } from 'pachter'
import type { ModelData, Relation } from 'pachter/model'
import { childrenOf, fieldOf, LIMITS, parentsOf } from 'pachter/model'
import { built, conditionOn } from './conditions.js'
import { idsFor, valuesFor } from './values.js'
import { keyIn, keysFor, strangerTo, withKey, withoutKey } from './keys.js'
import { type Attempt, isFree, recordOf, TABLES, valuesFrom } from './worlds.js'

/** Something a caller asks or does, as data: what is called, of which table, with what. */
export interface Question {
  readonly method: string
  readonly table: string
  readonly given: readonly unknown[]
}

/** Options of a read, with its condition as data. */
export interface Options {
  readonly where?: Condition
  readonly orderBy?: readonly string[]
  readonly limit?: number
  readonly offset?: number
  readonly after?: Readonly<Record<string, unknown>>
  readonly fields?: readonly string[]
  readonly with?: Readonly<Record<string, Options>>
  /** Of related records that several references lead to, by which. */
  readonly by?: string
}

function optionsOn(
  model: ModelData,
  table: string,
  kind: 'list' | 'get' | 'count' | 'related',
  depth: number,
  isPlain: boolean,
): fc.Arbitrary<Options> {
  const { fields } = model.tables[table] as ModelData['tables'][string]
  const names = Object.keys(fields)
  // Texts sort as their column does.
  const unsorted = ['list', 'bytes', 'json', ...(isPlain ? ['text', 'choice'] : [])]
  const sortable = names.filter((name) => !unsorted.includes(fields[name]?.type ?? '') || fields[name]?.key)
  const where = fc.oneof(
    { weight: 4, arbitrary: conditionOn(model, [table], 1, TABLES, false) },
    {
      weight: 1,
      arbitrary: fc
        .constantFrom('update', 'delete', 'settle')
        .map((action): Condition => ({ kind: 'may', level: 0, table, action })),
    },
  )
  const orderBy = fc.array(
    fc.tuple(fc.constantFrom(...sortable), fc.boolean()).map(([name, down]) => (down ? `${name} descending` : name)),
    { maxLength: 2 },
  )
  const steps = [...parentsOf(model, table), ...childrenOf(model, table)]
  const related =
    depth === 0
      ? fc.constant({})
      : fc.record(
          Object.fromEntries(
            steps.map((step) => [
              step.name,
              fc.oneof(
                fc.constant(along(step)),
                optionsOn(model, step.table, 'related', depth - 1, isPlain).map((options) => ({
                  ...options,
                  ...along(step),
                })),
              ),
            ]),
          ),
          { requiredKeys: [] },
        )
  const access = isPlain ? fc.constant(false) : fc.boolean()
  const what = { fields: fc.subarray(names), access, with: related }
  const which = { where, orderBy, limit: fc.integer({ min: 0, max: 3 }) }
  const after = fc.record(
    Object.fromEntries(
      sortable.map((name) => {
        const value = fc.constantFrom<unknown>(...poolOf(model, table, name))
        const isThere = fields[name]?.key || (isPlain && !fields[name]?.optional)
        return [name, isThere ? value : fc.oneof(fc.constant(null), value)]
      }),
    ),
  )
  const all = {
    get: what,
    count: { where },
    related: { ...what, ...which },
    list: {
      ...what,
      ...which,
      offset: fc.integer({ min: 0, max: 2 }),
      after,
      form: fc.constantFrom('walk', 'scan', 'gather'),
    },
  }
  return fc.record(all[kind] as Record<string, fc.Arbitrary<unknown>>, { requiredKeys: [] }) as fc.Arbitrary<Options>
}

/** The way to related records: by which reference, where there can be several. */
const along = ({ one, to }: Relation): Options => (one ? {} : { by: to })

const poolOf = (model: ModelData, table: string, name: string): readonly unknown[] => {
  const field = model.tables[table]?.fields[name]
  if (!field) return []
  return field.key || field.references ? idsFor(field) : valuesFor(field)
}

/** The same options as an application gives them: conditions as functions of a row. */
export function asGiven(options: object): object {
  const { where, with: related, ...rest } = options as Options
  return {
    ...rest,
    ...(where && { where: (row: never) => built(where, [row]) }),
    ...(related && {
      with: Object.fromEntries(Object.entries(related).map(([name, each]) => [name, asGiven(each)])),
    }),
  }
}

/** How many related records of one kind or another are asked for along with others. */
const relationsIn = ({ with: related = {} }: Options): number =>
  Object.values(related).reduce((sum, each) => sum + 1 + relationsIn(each), 0)

const isWithin = (options: Options): boolean => relationsIn(options) <= LIMITS.withRelations

const keysOf = (model: ModelData, table: string): readonly unknown[] => [
  ...keysFor(model, table),
  strangerTo(model, table),
]

/**
 * Records, one or many, or how many there are.
 *
 * @param isPlain whether what may be done to them is not asked along with them, and pages start where there can be a record
 */
export function readOn(model: ModelData, table: string, isPlain: boolean): fc.Arbitrary<Question> {
  const key = fc.constantFrom(...keysOf(model, table))
  // All records with all that they refer to and that refers to them: nothing else hides what goes wrong there.
  const steps = [...parentsOf(model, table), ...childrenOf(model, table)]
  const joined = fc.record({
    with: fc.record(Object.fromEntries(steps.map((step) => [step.name, fc.constant(along(step))]))),
  })
  const asked = (method: string, ...given: fc.Arbitrary<unknown>[]) =>
    fc.tuple(...given).map((drawn): Question => ({ method, table, given: drawn }))
  return fc.oneof(
    { weight: 4, arbitrary: asked('list', optionsOn(model, table, 'list', 2, isPlain).filter(isWithin)) },
    { weight: 4, arbitrary: asked('list', joined) },
    { weight: 2, arbitrary: asked('get', key, optionsOn(model, table, 'get', 1, isPlain)) },
    { weight: 1, arbitrary: asked('count', optionsOn(model, table, 'count', 0, isPlain)) },
    { weight: 1, arbitrary: asked('exists', optionsOn(model, table, 'count', 0, isPlain)) },
  )
}

/** Anything that can be asked or done, also by who guesses right what is stored. */
export function questionOn(model: ModelData, data: Data): fc.Arbitrary<Question> {
  return fc.constantFrom(...TABLES).chain((table) => {
    const key = fc.constantFrom(...keysOf(model, table))
    const keys = fc.array(key, { minLength: 1, maxLength: 3 })
    const stored = data[table] ?? []
    const record =
      stored.length > 0 ? fc.oneof(recordOf(model, table), fc.constantFrom(...stored)) : recordOf(model, table)
    const some = record.chain((each) => valuesFrom(model, table, each, 'update'))
    const change = record.chain((each) =>
      fc.tuple(fc.oneof(key, fc.constant(keyIn(model, table, each))), valuesFrom(model, table, each, 'update')),
    )
    // Half of what is created has nothing but what can be given.
    const isGiven = (name: string) => isFree(fieldOf(model, table, name))
    const whole = fc
      .tuple(
        record.chain((each) => valuesFrom(model, table, each, 'create')),
        key,
        fc.boolean(),
      )
      .map(([each, id, isWhole]) => ({
        ...Object.fromEntries(Object.entries(each).filter(([name]) => isWhole || isGiven(name))),
        ...withKey(model, table, id),
      }))
    const partly = fc.record({ partly: fc.boolean() })
    const asked = (method: string, ...given: fc.Arbitrary<unknown>[]) =>
      fc.tuple(...given).map((drawn): Question => ({ method, table, given: drawn }))
    return fc.oneof(
      { weight: 12, arbitrary: readOn(model, table, false) },
      { weight: 1, arbitrary: asked('stream', fc.record({ batch: fc.constantFrom(1, 2) })) },
      { weight: 1, arbitrary: asked('view') },
      { weight: 1, arbitrary: asked('filter', fc.constantFrom('read', 'get')) },
      { weight: 2, arbitrary: asked('create', whole) },
      { weight: 3, arbitrary: change.map((given) => ({ method: 'update', table, given })) },
      { weight: 2, arbitrary: asked('delete', key) },
      { weight: 2, arbitrary: change.map((given) => ({ method: 'act', table, given: ['settle', ...given] })) },
      { weight: 2, arbitrary: asked('upsert', whole) },
      { weight: 1, arbitrary: asked('createMany', fc.array(whole, { maxLength: 2 }), partly) },
      { weight: 1, arbitrary: asked('updateMany', keys, some, partly) },
      { weight: 1, arbitrary: asked('actMany', fc.constant('settle'), keys, some, partly) },
      { weight: 1, arbitrary: asked('deleteMany', keys, partly) },
    )
  })
}

/** What each write of a question comes to, one by one, for an oracle. */
export function attemptsIn(
  model: ModelData,
  { method, table, given }: Question,
): readonly Pick<Attempt, 'action' | 'key' | 'values'>[] {
  const [first, second, third] = given as [never, never, never]
  const none = {}
  const create = (values: Record<string, unknown>) => ({ action: 'create', key: undefined, values }) as const
  const update = (key: unknown, values: Record<string, unknown>) => ({ action: 'update', key, values }) as const
  const remove = (key: unknown) => ({ action: 'delete', key, values: none }) as const
  switch (method) {
    case 'create':
      return [create(first)]
    case 'update':
      return [update(first, second)]
    case 'delete':
      return [remove(first)]
    case 'act':
      return [{ action: 'settle', key: second, values: third }]
    case 'upsert': {
      const key = keyIn(model, table, first)
      return [create(first), update(key, withoutKey(model, table, first))]
    }
    case 'createMany':
      return (first as Record<string, unknown>[]).map(create)
    case 'updateMany':
      return (first as unknown[]).map((key) => update(key, second))
    case 'actMany':
      return (second as unknown[]).map((key) => ({ action: 'settle', key, values: third }))
    case 'deleteMany':
      return (first as unknown[]).map(remove)
    default:
      return []
  }
}
