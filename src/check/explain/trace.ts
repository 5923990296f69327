import { type Condition, type Operand, operandsOf, type Some } from '../../condition/index.js'
import { evaluatorInside, type MemoryRecord, valueWithoutRecord } from '../../decide/index.js'
import { isMissing, printKey } from '../../model/index.js'
import type { Caller } from '../../rules/index.js'
import { writeValue } from '../bench/values.js'
import type { Workbench } from '../bench/workbench.js'

/** Whether a condition holds of a record, and the values that make it so. */
export interface Trace {
  readonly holds: boolean
  /** How many comparisons would have to come out otherwise for it to hold; 0 where it does. */
  readonly lacking: number
  /** The values that decided, in words: `row.authorId is 3`, `entryShares 7, 4 has memberId 4`. */
  readonly evidence: readonly string[]
}

/** What a condition is traced against. */
export interface Setting {
  readonly bench: Workbench
  readonly caller: Caller
  readonly now: Date
  /** The record as it will be, for conditions on a change. */
  readonly next?: MemoryRecord
}

/** A record a condition is about, and what it is called. */
interface Named {
  readonly record: MemoryRecord
  readonly name: string
}

interface Place extends Setting {
  readonly stack: readonly Named[]
  readonly old?: MemoryRecord
}

/** So many records that a step leads to are looked at. */
const LOOKED_AT = 200

/** So many of them are named. */
const NAMED = 3

/**
 * Follows a condition through the stored records, part by part.
 *
 * @param condition free of `may`: expanded
 */
export function trace(condition: Condition, record: MemoryRecord, setting: Setting): Promise<Trace> {
  return follow(condition, { ...setting, stack: [{ record, name: 'row' }] })
}

async function follow(condition: Condition, place: Place): Promise<Trace> {
  switch (condition.kind) {
    case 'always':
    case 'never':
      return leaf(condition.kind === 'always')
    case 'all':
      return together(await followAll(condition.of, place))
    case 'any':
      return eitherOf(await followAll(condition.of, place))
    case 'not': {
      const { holds, evidence } = await follow(condition.of, place)
      return leaf(!holds, evidence)
    }
    case 'after':
      return followAfter(condition.of, place)
    case 'some':
      return condition.chain === undefined
        ? followSome(condition, place)
        : followChain(condition, condition.chain, place)
    case 'unchanged': {
      const [before, next] = [place.stack[0]?.record, place.next].map((record) => record?.[condition.field])
      const evidence = [`row.${condition.field} is ${writeValue(before)}`, `it would be ${writeValue(next)}`]
      return leaf(isSo(condition, place), evidence)
    }
    case 'signedIn':
      return leaf(isSo(condition, place), place.caller.signedIn ? [] : ['the caller has not signed in'])
    case 'role':
      return leaf(isSo(condition, place), [`the caller comes with roles ${writeValue(place.caller.roles)}`])
    case 'channel': {
      const { channel } = place.caller
      return leaf(isSo(condition, place), [
        `the request came ${channel === undefined ? 'by no channel' : `by ${channel}`}`,
      ])
    }
    case 'isSet':
    case 'compare':
      return leaf(isSo(condition, place), describe(operandsOf(condition), place))
    case 'may':
      throw new TypeError('A may condition has to be expanded before it is traced.')
  }
}

const leaf = (holds: boolean, evidence: readonly string[] = []): Trace => ({ holds, lacking: holds ? 0 : 1, evidence })

async function followAll(conditions: readonly Condition[], place: Place): Promise<readonly Trace[]> {
  const traces: Trace[] = []
  for (const each of conditions) traces.push(await follow(each, place))
  return traces
}

/** Whether a condition without further steps in it holds, by what is known at this place. */
function isSo(condition: Condition, { stack, old, caller, now, next }: Place): boolean {
  const world = { caller, now, lookup: () => () => [], ...(next && { next }) }
  return evaluatorInside(condition, world)(
    stack.map(({ record }) => record),
    old,
  )
}

/** All parts count where all hold; else those that do not. */
function together(parts: readonly Trace[]): Trace {
  const failing = parts.filter(({ holds }) => !holds)
  const telling = failing.length > 0 ? failing : parts
  return {
    holds: failing.length === 0,
    lacking: failing.reduce((sum, { lacking }) => sum + lacking, 0),
    evidence: evidenceOf(telling),
  }
}

/** The first part that holds tells enough; where none does, those that came closest. */
function eitherOf(parts: readonly Trace[]): Trace {
  const holding = parts.find(({ holds }) => holds)
  if (holding) return holding
  const lacking = parts.reduce((least, { lacking: each }) => Math.min(least, each), Infinity)
  return { holds: false, lacking, evidence: evidenceOf(parts.filter((part) => part.lacking === lacking)) }
}

const evidenceOf = (parts: readonly Trace[]): readonly string[] => [...new Set(parts.flatMap((part) => part.evidence))]

function followAfter(condition: Condition, place: Place): Promise<Trace> {
  const [before, ...deeper] = place.stack
  const record = place.next ?? before?.record ?? {}
  const old = before ? { old: before.record } : {}
  return follow(condition, { ...place, ...old, stack: [{ record, name: 'the new row' }, ...deeper] })
}

/** Follows a chain from record to record, until one meets what is asked, or it ends. */
async function followChain(some: Some, chain: string, place: Place): Promise<Trace> {
  const { table, from, to, where, through } = some
  const traces: Trace[] = []
  const passed = new Set<string>()
  let value = valueOf(from, place)
  while (!isMissing(value) && passed.size < LOOKED_AT) {
    const [record] = await recordsWith(place, table, to.field, value)
    if (!record) break
    const inside = at(place, table, to.level, record)
    if (passed.has(inside.name)) break
    passed.add(inside.name)
    const passing = through ? await follow(through, inside.place) : leaf(true)
    if (!passing.holds) {
      traces.push(passing)
      break
    }
    const found = await follow(where, inside.place)
    if (found.holds) return found
    traces.push(found)
    value = record[chain]
  }
  if (traces.length === 0) return leaf(false, describe([from], place))
  return eitherOf(traces)
}

const recordsWith = ({ bench }: Place, table: string, field: string, value: unknown) =>
  bench.everything.list(table, {
    where: ((row: Record<string, { is(value: unknown): Condition }>) => row[field]?.is(value)) as never,
    limit: LOOKED_AT,
  })

/** A place one step further, and what the record there is called. */
function at(place: Place, table: string, level: number, record: MemoryRecord): { place: Place; name: string } {
  const stack = place.stack.slice(0, level)
  const key = printKey(place.bench.rulebook.model, table, record)
  const name = `${table} ${key.includes(',') ? `(${key})` : key}`
  stack[level] = { record, name }
  return { place: { ...place, stack }, name }
}

async function followSome(some: Some, place: Place): Promise<Trace> {
  const { table, from, to, where, one } = some
  const value = valueOf(from, place)
  if (isMissing(value)) return leaf(false, describe([from], place))
  const found = await recordsWith(place, table, to.field, value)
  if (found.length === 0) {
    const start = from.kind === 'field' ? place.stack[from.level]?.name : 'the caller'
    return leaf(false, [one ? `there is no such record in ${table}` : `there are no ${table} of ${start}`])
  }
  const traces: Trace[] = []
  for (const record of found) {
    traces.push(await follow(where, at(place, table, to.level, record).place))
  }
  const closest = eitherOf(traces)
  if (closest.holds || one) return closest
  const telling = traces.filter(({ lacking }) => lacking === closest.lacking)
  const more = telling.length > NAMED ? [`and ${telling.length - NAMED} more of ${table} like these`] : []
  return { ...closest, evidence: [...evidenceOf(telling.slice(0, NAMED)), ...more] }
}

function valueOf(operand: Operand, { stack, old, caller, now }: Place): unknown {
  if (operand.kind === 'field') return stack[operand.level]?.record[operand.name]
  if (operand.kind === 'old') return old?.[operand.name]
  return valueWithoutRecord(operand, caller, now)
}

/** The values of those operands that a reader does not see in the condition itself. */
function describe(operands: readonly Operand[], place: Place): readonly string[] {
  return operands.flatMap((operand) => {
    const value = writeValue(valueOf(operand, place))
    if (operand.kind === 'field') return [`${place.stack[operand.level]?.name}.${operand.name} is ${value}`]
    if (operand.kind === 'old') return [`old.${operand.name} is ${value}`]
    return operand.kind === 'now' && operand.plusSeconds === 0 ? [`now is ${value}`] : []
  })
}
