import type { Condition, Data } from 'pachter'
import {
  childrenOf,
  fieldOf,
  type ModelData,
  parentsOf,
  type Relation,
  toPlain,
  uniquesOf,
  type Value,
} from 'pachter/model'
import { stepTo } from './conditions.js'
import { idsFor } from './values.js'
import { givable } from './filled.js'
import { isAt, keysFor, strangerTo, textOfKey, withKey } from './keys.js'
import { Oracle } from './oracle.js'
import type { Pair } from './pairs.js'
import { attemptsIn, type Question } from './questions.js'
import { type Sequence, sequencesOf, thenIn } from './sequences.js'
import { shown } from './shown.js'
import { isFree, NOW, type World } from './worlds.js'

type Row = Readonly<Record<string, unknown>>

/** How many guesses of each kind are made of a pair of databases. */
const MOST = 8

/** Something that is so in one database and not in the other: a record, or what one of its fields holds. */
interface Difference {
  readonly table: string
  readonly key: Row
  readonly field?: string
  readonly value?: unknown
}

/**
 * What somebody would ask who knows just what differs between two databases, and has to be told the same by both: the
 * records in which it is so, and those from which a step, or one after another, leads to it. Each would be answered
 * differently, were nothing hidden from those who ask.
 */
export function guessesAt({ world, who }: Pick<Pair, 'world' | 'who'>, other: Data): readonly Question[] {
  const { model, tables } = world.rulebook
  const names = Object.keys(tables)
  const oracles = [world.data, other].map((data) => new Oracle(world.rulebook, data, who, NOW))
  const differences = differencesTo(world, other)
  const isTelling = (guess: Guess) => new Set(oracles.map((oracle) => answerTo(oracle, guess))).size > 1
  return [direct, aStepAway, byReference, alongChains].flatMap((kind) =>
    someOf(distinct(differences.flatMap((each) => kind(model, names, each))).filter(isTelling)).map(
      ([table, where]): Question => ({ method: 'list', table, given: [{ where }] }),
    ),
  )
}

/**
 * Writes that would run into what stands in one of two databases alone: a key or a unique value that is taken there, a
 * reference that leads somewhere there, or a hidden field that is so there already. Nothing else stands in their way.
 */
export function claimsAt({ world, who, others }: Pair, other: Data): readonly Question[] {
  const { model, tables } = world.rulebook
  const oracles = [world.data, other].map((data) => new Oracle(world.rulebook, data, who, NOW))
  const isOpen = ({ table, ...claim }: Question) =>
    attemptsIn(model, { table, ...claim }).every(({ action, key, values }) =>
      oracles.every((oracle) => oracle.foretell(table, action, key, values).statuses.includes(200)),
    )
  const seenAfter = (update: Question, data: Data) => {
    const { table } = update
    const [{ key, values } = { key: undefined, values: {} }] = attemptsIn(model, update)
    const { stored } = new Oracle(world.rulebook, data, who, NOW).foretell(table, 'update', key, values)
    if (!stored) return undefined
    const rows = (data[table] ?? []).map((row) =>
      isAt(model, table, row, withKey(model, table, stored)) ? stored : row,
    )
    const after = new Oracle(world.rulebook, { ...data, [table]: rows }, who, NOW)
    return shown(after.sees(table, stored, 'get')?.map((field) => [field, stored[field]]))
  }
  const differences = differencesTo(world, other)
  const creates = (table: string, more: Row): readonly Question[] =>
    (others[table] ?? []).map((row) => {
      const fields = Object.entries(givable(model, table, row))
      const free = fields.map(([name, value]) => [name, isFree(fieldOf(model, table, name)) ? value : null])
      return {
        method: 'create',
        table,
        given: [{ ...Object.fromEntries(free), ...withKey(model, table, strangerTo(model, table)), ...more }],
      }
    })
  const updates = (table: string, more: Row): readonly Question[] =>
    keysFor(model, table).map((key) => ({ method: 'update', table, given: [key, more] }))
  const anyway = (table: string, more: Row): readonly Question[] => [...creates(table, more), ...updates(table, more)]
  const keys = differences.flatMap(({ table, key, field }) => (field === undefined ? creates(table, key) : []))
  const unique = differences.flatMap(({ table, field, value }) =>
    field && value !== null && fieldOf(model, table, field).unique ? anyway(table, { [field]: value }) : [],
  )
  // What is unique within others, all of it and each part of it alone.
  const together = differences.flatMap(({ table, key, field }) =>
    uniquesOf(model, table).flatMap((names) => {
      if (names.length < 2 || (field !== undefined && !names.includes(field))) return []
      const rows = [world.data, other].flatMap((data) =>
        (data[table] ?? []).filter((row) => isAt(model, table, row, key)),
      )
      return rows.flatMap((row) => {
        const some = names.flatMap((name) => (row[name] === null ? [] : [[name, row[name]] as const]))
        return some.length < names.length
          ? []
          : [some, ...some.map((each) => [each])].flatMap((each) => anyway(table, Object.fromEntries(each)))
      })
    }),
  )
  const references = differences.flatMap(({ table, key, field }) =>
    field === undefined
      ? childrenOf(model, table).flatMap((child) =>
          child.table in tables ? anyway(child.table, { [child.to]: key[child.from] }) : [],
        )
      : [],
  )
  // What is unique and set by the rules, whatever is sent.
  const stamped = differences.flatMap(({ table, field }) => {
    const { stamps = {} } = tables[table] ?? {}
    const sets = (action: string) =>
      uniquesOf(model, table).some(
        (names) => names.some((name) => name in (stamps[action] ?? {})) && (!field || names.includes(field)),
      )
    const free = (others[table] ?? []).flatMap((row) =>
      Object.entries(givable(model, table, row)).filter(([name]) => isFree(fieldOf(model, table, name))),
    )
    return [
      ...(sets('create') ? creates(table, {}) : []),
      ...(sets('update') ? free.flatMap(([name, value]) => updates(table, { [name]: value })) : []),
      ...(sets('settle')
        ? keysFor(model, table).map((key) => ({ method: 'act', table, given: ['settle', key, {}] }))
        : []),
    ]
  })
  // What a hidden field is: an update that leaves it so, may be made, and shows the same of either afterwards.
  const left = differences
    .flatMap(({ table, field, value }) =>
      field && isFree(fieldOf(model, table, field)) ? updates(table, { [field]: value }) : [],
    )
    .filter((each) => isOpen(each) && seenAfter(each, world.data) === seenAfter(each, other))
  return [keys, unique, together, stamped, references, left].flatMap((claims) =>
    someOf(distinct(claims).filter(isOpen)),
  )
}

/**
 * Writes to several records, one after another, of which the last is none, so that nothing is written: what the first would
 * make of the second hangs on what stands in one of two databases alone.
 */
export function sequencesIn({ world, who, others }: Pair, other: Data): readonly Question[] {
  const { model } = world.rulebook
  const oracles = [world.data, other].map((data) => new Oracle(world.rulebook, data, who, NOW))
  const isTelling = (sequence: Sequence) => new Set(oracles.map((oracle) => thenIn(oracle, sequence))).size > 1
  return someOf(sequencesOf(world, others).filter(isTelling)).map(({ action, table, keys, values }): Question => {
    const all = [...keys, strangerTo(model, table)]
    if (action === 'delete') return { method: 'deleteMany', table, given: [all] }
    return action === 'update'
      ? { method: 'updateMany', table, given: [all, values] }
      : { method: 'actMany', table, given: [action, all, values] }
  })
}

/** Each once, whatever it is. */
export const distinct = <T>(all: readonly T[]): readonly T[] => [
  ...new Map(all.map((each) => [shown(each), each])).values(),
]

export const someOf = <T>(all: readonly T[]): readonly T[] =>
  all.filter((_, at) => at % Math.ceil(all.length / MOST) === 0)

/** Which of the records that are seen are found, were nothing hidden from the condition. */
const answerTo = (oracle: Oracle, [table, where]: Guess): string =>
  JSON.stringify(
    (oracle.data[table] ?? [])
      .filter((row) => oracle.sees(table, row, 'list') && oracle.is(where, { at: [row] }))
      .map((row) => textOfKey(oracle.rulebook.model, table, row))
      .sort(),
  )

const differencesTo = ({ rulebook: { model, tables }, data }: World, other: Data): readonly Difference[] =>
  Object.keys(tables).flatMap((table) => differencesIn(model, table, data[table] ?? [], other[table] ?? []))

function differencesIn(model: ModelData, table: string, here: readonly Row[], there: readonly Row[]): Difference[] {
  const keys = new Map([...here, ...there].map((row) => [textOfKey(model, table, row), withKey(model, table, row)]))
  return [...keys.values()].flatMap((key): Difference[] => {
    const [one, two] = [here, there].map((rows) => rows.find((each) => isAt(model, table, each, key)))
    if (!one || !two) return [{ table, key }]
    const fields = Object.keys(one).filter((name) => isComparable(model, table, name) && one[name] !== two[name])
    return fields.flatMap((field) => [one, two].map((row) => ({ table, key, field, value: row[field] })))
  })
}

const isComparable = (model: ModelData, table: string, name: string): boolean =>
  !['list', 'json', 'bytes', 'timestamp'].includes(fieldOf(model, table, name).type)

type Guess = readonly [table: string, where: Condition]
type Kind = (model: ModelData, tables: readonly string[], difference: Difference) => readonly Guess[]

const direct: Kind = (model, _, difference) => [[difference.table, so(model, difference, 0)]]

const aStepAway: Kind = (model, tables, difference) =>
  tables.flatMap((table) =>
    relationsOf(model, table)
      .filter((each) => each.table === difference.table)
      .map((each): Guess => [table, stepTo(each, 0, so(model, difference, 1))]),
  )

/** Where a reference leads, which may differ though what is on both its ends is the same. */
const byReference: Kind = (model, _, { table, key, field, value }) => {
  const parent = parentsOf(model, table).find(({ from }) => from === field)
  if (!parent || value === null) return []
  const back = childrenOf(model, parent.table).filter((each) => each.table === table && each.to === field)
  return [
    [table, both(at(model, table, key, 0), stepTo(parent, 0, is(model, parent.table, 'id', value, 1)))],
    ...back.map((each): Guess => {
      const found = stepTo(each, 0, at(model, table, key, 1))
      return [parent.table, both(is(model, parent.table, 'id', value, 0), found)]
    }),
  ]
}

/** What stands above, at whatever height: boxes stand in boxes. */
const alongChains: Kind = (model, tables, { table, field }) => {
  if (table !== 'boxes' || !['insideId', undefined].includes(field)) return []
  return tables.flatMap((from) =>
    parentsOf(model, from)
      .filter((each) => each.table === 'boxes')
      .flatMap((each) =>
        idsFor(fieldOf(model, 'boxes', 'id')).map((above): Guess => {
          const chain = { ...stepTo(each, 0, is(model, 'boxes', 'id', above, 1)), chain: 'insideId' }
          return [from, chain as Condition]
        }),
      ),
  )
}

const relationsOf = (model: ModelData, table: string): readonly Relation[] => [
  ...parentsOf(model, table),
  ...childrenOf(model, table),
]

/** That it is so of a record at this level. */
function so(model: ModelData, { table, key, field, value }: Difference, level: number): Condition {
  const itself = at(model, table, key, level)
  return field === undefined ? itself : both(itself, is(model, table, field, value, level))
}

const both = (...of: readonly Condition[]): Condition => ({ kind: 'all', of })

const at = (model: ModelData, table: string, key: Row, level: number): Condition =>
  both(...Object.entries(key).map(([name, value]) => is(model, table, name, value, level)))

function is(model: ModelData, table: string, name: string, value: unknown, level: number): Condition {
  const operand = { kind: 'field', level, name } as const
  if (value === null) return { kind: 'not', of: { kind: 'isSet', operand } }
  const shape = fieldOf(model, table, name)
  const right = { kind: 'value', shape, value: toPlain(shape, value as Value) } as const
  return { kind: 'compare', how: 'is', left: operand, right }
}
