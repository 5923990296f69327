import fc from 'fast-check'
import type { Data } from 'pachter'
import { parentsOf } from 'pachter/model'
import { accessQuestions, accessReader, answer, lookupIn } from 'pachter/decide'
import { checkCaller } from 'pachter/rules'
import { someoneIn } from './callers.js'
import { filledIn, givable } from './filled.js'
import { isAt, textOfKey } from './keys.js'
import { Oracle, type Someone } from './oracle.js'
import { same } from './oracle-values.js'
import { attemptsIn, type Question, questionOn } from './questions.js'
import { shown } from './shown.js'
import { isUnique, NOW, recordOf, type World, worlds } from './worlds.js'

type Row = Readonly<Record<string, unknown>>

/** A world, a caller in it, other values that could stand in it in secret, and what the caller asks. */
export interface Pair {
  readonly world: World
  readonly who: Someone
  readonly others: Readonly<Record<string, readonly Row[]>>
  readonly questions: readonly Question[]
  /** Whether columns are odd, where a database can have them so. */
  readonly isOdd: boolean
}

/** Draws pairs of databases, with this many questions each; in some, what is unique is so within another field. */
export const pairs = (questions: number, draw = questionOn, within = false): fc.Arbitrary<Pair> =>
  worlds(0, true, within).chain((world) => {
    const { model } = world.rulebook
    const others = Object.keys(model.tables).map((table) => [
      table,
      fc.array(recordOf(model, table), { minLength: 4, maxLength: 4 }),
    ])
    return fc.record({
      world: fc.constant(world),
      who: someoneIn(model) as fc.Arbitrary<Someone>,
      others: fc.record(Object.fromEntries(others) as Record<string, fc.Arbitrary<Row[]>>),
      questions: fc.array(draw(model, world.data), { minLength: questions, maxLength: questions }),
      isOdd: fc.boolean(),
    })
  })

/** Looks at a database as a caller does: who that is, and each record that is seen, by its place. */
type Look = (data: Data, first?: string) => Iterable<readonly [place: string, seen: string]>

/**
 * All that a caller sees of a database, and may do to it, and which roles it gives the caller, who knows them; of one table
 * first, if that is wanted.
 */
function looker({ rulebook }: World, who: Someone): Look {
  const { model } = rulebook
  const caller = checkCaller(rulebook.caller, who)
  const asked = Object.keys(rulebook.tables).flatMap((table) =>
    (['list', 'get'] as const).map((how) => ({
      table,
      how,
      questions: accessQuestions(rulebook, table, caller, how),
      access: accessReader(rulebook, table, caller, how),
    })),
  )
  return function* (data, first) {
    const oracle = new Oracle(rulebook, data, who, NOW)
    const place = { caller, now: NOW, lookup: lookupIn(data) }
    yield ['', [...oracle.roles()].join()]
    const isFirst = ({ table }: { readonly table: string }) => Number(table === first)
    for (const { table, how, questions, access } of [...asked].sort((left, right) => isFirst(right) - isFirst(left))) {
      for (const row of data[table] ?? []) {
        const fields = oracle.sees(table, row, how)
        if (!fields) continue
        const shownFields = fields.map((name) => [name, row[name]])
        yield [
          JSON.stringify([table, how, textOfKey(model, table, row)]),
          shown([shownFields, access(answer(questions, row, place))]),
        ]
      }
    }
  }
}

/** The same as text: what two databases have in common where they differ in secret. */
export function viewer(world: World, who: Someone): (data: Data) => string {
  const look = looker(world, who)
  return (data) => shown([...look(data)].sort(([left], [right]) => (left < right ? -1 : 1)))
}

/**
 * Whether a caller notices nothing where a database becomes another.
 *
 * @returns asked of the other one, and the table that differs
 */
export function unnoticedBy(world: World, who: Someone): (next: Data, table: string) => boolean {
  const look = looker(world, who)
  const seen = new Map(look(world.data))
  return (next, table) => {
    let met = 0
    // What a change shows, it shows at its own table most often: so most are looked at in part.
    for (const [place, what] of look(next, table)) {
      if (seen.get(place) !== what) return false
      met += 1
    }
    return met === seen.size
  }
}

/** The same database to this caller, as different as can be to everybody else. */
export function inSecret({ world, who, others }: Pair): Data {
  const { model } = world.rulebook
  const isUnnoticed = unnoticedBy(world, who)
  let data = world.data
  const rowsOf = (table: string) => data[table] ?? []
  const attempt = (table: string, rows: readonly Row[]) => {
    const next = { ...data, [table]: rows }
    const isPossible = rows.every((_, at) => isUnique(model, table, rows, at))
    if (isPossible && isUnnoticed(next, table)) data = next
  }
  for (const [table, given] of Object.entries(others)) {
    const key: readonly string[] = model.tables[table]?.key ?? []
    const names = Object.keys(givable(model, table, given[0] ?? {})).filter((name) => !key.includes(name))
    // Each field of each record becomes the first of the other values that nobody notices.
    for (const at of rowsOf(table).keys()) {
      for (const name of names) {
        const stored = rowsOf(table)[at]?.[name]
        for (const value of given.map((other) => other[name])) {
          if (same(value, stored) || rowsOf(table)[at]?.[name] !== stored) continue
          attempt(
            table,
            rowsOf(table).map((row, place) => (place === at ? filledIn(model, table, { ...row, [name]: value }) : row)),
          )
        }
      }
    }
    const isThere = (other: Row) => rowsOf(table).some((row) => key.every((name) => row[name] === other[name]))
    for (const other of given) {
      if (isThere(other))
        attempt(
          table,
          rowsOf(table).filter((row) => key.some((name) => row[name] !== other[name])),
        )
      else attempt(table, [...rowsOf(table), other])
    }
  }
  return data
}

/** What no table has as a field: values for it are refused in any case. */
export const NO_FIELD = 'nonesuch'

/**
 * Whether the rules themselves decide alike about a write in both: what they make of what is hidden is told, as it has
 * to be. Which grants hold is a part of that: a rule's message is for those whom a grant lets.
 */
export function isDecidedAlike({ world, who }: Pair, other: Data, question: Question): boolean {
  const [one, two] = [world.data, other].map((data) => new Oracle(world.rulebook, data, who, NOW)) as [Oracle, Oracle]
  const { table } = question
  return attemptsIn(world.rulebook.model, question).every(
    ({ action, key, values: { [NO_FIELD]: isAmiss, ...values } }) => {
      const foretell = (oracle: Oracle) => {
        const { statuses, check } = oracle.foretell(table, action, key, values)
        // A reference to nowhere is no value, whatever a check finds there.
        const isNowhere = statuses.includes(200) && leadsNowhere(oracle, table, action, key, values)
        const isUnfit = isNowhere || (isAmiss !== undefined && (check !== undefined || statuses.includes(200)))
        return [isUnfit ? [422] : [statuses, check], oracle.holding(table, action, key, values)]
      }
      return JSON.stringify(foretell(one)) === JSON.stringify(foretell(two))
    },
  )
}

/**
 * Whether a reference is given, and not left as it is seen to be, that leads to no record the caller sees, of a table that
 * has some which are hidden.
 */
function leadsNowhere(oracle: Oracle, table: string, action: string, key: unknown, values: Row): boolean {
  const stored =
    action === 'create'
      ? undefined
      : (oracle.data[table] ?? []).find((row) => isAt(oracle.rulebook.model, table, row, key))
  const shown = stored ? (oracle.sees(table, stored, 'get') ?? []) : []
  return parentsOf(oracle.rulebook.model, table).some(({ from, table: parent, to }) => {
    const value = values[from] ?? null
    if (value === null || (shown.includes(from) && stored?.[from] === value)) return false
    const rows = oracle.data[parent] ?? []
    const seen = rows.filter((row) => oracle.may(parent, 'get', { at: [row] }))
    return seen.length < rows.length && !seen.some((row) => row[to] === value)
  })
}
