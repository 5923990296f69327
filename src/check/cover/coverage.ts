import {
  type Access,
  accessQuestions,
  accessReader,
  allowance,
  answer,
  type Data,
  type Facts,
  type Inquiry,
  lookupIn,
  questionsFor,
  readValues,
  recordToCreate,
  SIGHT,
  stampsToSet,
  stampValues,
  verdictFrom,
} from '../../decide/index.js'
import { printKey } from '../../model/index.js'
import { inForce, type Rulebook, rulesOf, type TableRules } from '../../rules/index.js'
import { findRecord, readData } from '../bench/data.js'
import { type Element, elementsOf, type Supposed } from './elements.js'
import type { Aspect, Expectation, SetExpectation, TryExpectation } from '../expect/index.js'
import { isTrueOf } from '../expect/sets.js'
import { inEitherWay, isApart } from '../look/by-key.js'
import { omit } from './omit.js'
import type { Workbench } from '../bench/workbench.js'

/** How often one thing in the rules decided what was expected. */
export interface Covered {
  readonly table: string
  readonly kind: Element['kind'] | 'check'
  readonly name: string
  /** How often something came out as it did because it held. */
  readonly held: number
  /** How often because it did not. */
  readonly failed: number
}

type Counts = Map<Element, { held: number; failed: number }>

/**
 * Finds out which ties, grants, conditions, field lists, denies and checks were ever decisive for what is expected:
 * without which, had they come out otherwise, something stated would have come out otherwise. It works on the records
 * in memory.
 *
 * @throws {TooManyRecordsError} where there are too many records for that
 * @example (await coverage(bench, expectations.all)).filter(({ held, failed }) => held === 0 || failed === 0)
 */
export async function coverage(bench: Workbench, expectations: readonly Expectation[]): Promise<readonly Covered[]> {
  const data = await readData(bench)
  const covered: Covered[] = []
  for (const table of Object.keys(bench.rulebook.model.tables)) {
    const elements = elementsOf(bench.rulebook, table)
    const counts: Counts = new Map(elements.map((each) => [each, { held: 0, failed: 0 }]))
    const own = expectations.filter((each) => each.table === table)
    for (const caller of new Set(own.map((each) => each.caller))) {
      const sets = own.filter((each): each is SetExpectation => each.kind === 'set' && each.caller === caller)
      countSets(bench, table, caller, sets, data, counts)
    }
    for (const each of own) if (each.kind === 'try') countTry(bench, each, data, counts)
    for (const [{ kind, name }, count] of counts) covered.push({ table, kind, name, ...count })
    covered.push(...checksCovered(bench, table, own, data))
  }
  return covered
}

/** Counts which elements decided of each record whether what is stated is true of it. */
function countSets(
  bench: Workbench,
  table: string,
  caller: string,
  expectations: readonly SetExpectation[],
  data: Data,
  counts: Counts,
): void {
  const { rulebook, clock } = bench
  const who = bench.caller(caller)
  const inquiries = ['list', 'get', 'update', 'delete', ...rulesOf(rulebook, table).actions].map((action): Inquiry => ({
    rulebook,
    table,
    action,
    caller: who,
  }))
  const questions = questionsFor(inquiries, accessQuestions(rulebook, table, who))
  const world = { caller: who, now: clock(), lookup: lookupIn(data) }
  const asIs = looker({ rulebook, facts: (facts) => facts }, table, who)
  const supposed = [...counts].map(([element, count]) => ({
    count,
    held: looker(element.held, table, who),
    failed: looker(element.failed, table, who),
  }))
  for (const record of data[table] ?? []) {
    const key = printKey(rulebook.model, table, record)
    const stated = expectations.filter((each) => isExamined(each, key)).map(({ about }) => about)
    if (stated.length === 0) continue
    const facts = answer(questions, record, world)
    const is = summary(asIs(facts), stated)
    for (const { count, held, failed } of supposed) {
      // What would be otherwise if it held, is as it is because it does not.
      if (summary(held(facts), stated) !== is) count.failed += 1
      if (summary(failed(facts), stated) !== is) count.held += 1
    }
  }
}

/** Whether an expectation says anything about a record: an exact one does about all. */
function isExamined({ expected: { exactly, atLeast, noneOf } }: SetExpectation, key: string): boolean {
  const named = (keys: typeof atLeast) => typeof keys === 'number' || (keys?.includes(key) ?? false)
  return exactly !== undefined || named(atLeast) || named(noneOf)
}

/** What a caller gets of a record in a list, and by its key; nothing where it is not seen. */
interface Glimpse {
  readonly listed: Access | undefined
  readonly single: Access | undefined
}

/** What a caller gets of a record by the facts. */
function looker({ rulebook, facts: change }: Supposed, table: string, caller: Inquiry['caller']) {
  const rules = inForce(rulebook, table)
  const [listed, single] = [allowance(rules, 'list'), allowance(rules, 'get')]
  const read = accessReader(rulebook, table, caller)
  const readByKey = isApart(rulebook, table) ? accessReader(rulebook, table, caller, 'get') : undefined
  return (facts: Facts): Glimpse => {
    const changed = change(facts)
    const visible: Facts = (id) => id === SIGHT || changed(id)
    const sight = single(visible)
    const seen: Facts = (id) => (id === SIGHT ? sight : changed(id))
    const isTrusted = caller.trusted !== undefined
    const inList = isTrusted || listed(visible) ? read(seen) : undefined
    if (!readByKey) return { listed: inList, single: inList }
    return { listed: inList, single: isTrusted || sight ? readByKey(seen) : undefined }
  }
}

function summary({ listed, single }: Glimpse, stated: readonly Aspect[]): string {
  const either = inEitherWay(listed, single)
  const access = ({ what }: Aspect) => (what === 'sees' ? listed : what === 'gets' ? single : either)
  return stated.map((about) => Number(isTrueOf(about, access(about)))).join('')
}

/** Counts which elements decided what came of a write. */
function countTry(bench: Workbench, expected: TryExpectation, data: Data, counts: Counts): void {
  const asked = askTry(bench, bench.rulebook, expected, data)
  if (!asked) return
  const { inquiry, facts } = asked
  const outcome = ({ rulebook, facts: change }: Supposed): string => {
    const rules = inForce(rulebook, inquiry.table)
    const changed = change(facts)
    const sight = allowance(rules, 'get')((id) => id === SIGHT || changed(id))
    return outcomeOf({ ...inquiry, rulebook }, (id) => (id === SIGHT ? sight : changed(id)))
  }
  const is = outcome({ rulebook: inquiry.rulebook, facts: (same) => same })
  for (const [element, count] of counts) {
    if (outcome(element.held) !== is) count.failed += 1
    if (outcome(element.failed) !== is) count.held += 1
  }
}

/** What comes of a write, in short: the status, and the fields in the way. */
function outcomeOf(inquiry: Inquiry, facts: Facts): string {
  const { status, fields, invalid } = verdictFrom(inquiry, facts)
  return JSON.stringify([status, Object.keys(fields), Object.keys(invalid)])
}

/** The facts about a write; nothing where its values do not even fit the table. */
function askTry(bench: Workbench, rulebook: Rulebook, expected: TryExpectation, data: Data) {
  const { table, action, key, values, at } = expected
  const [caller, now] = [bench.caller(expected.caller), at ?? bench.clock()]
  const reading = action === 'delete' ? undefined : readValues(rulebook, table, action, values)
  if (reading && reading.problems.size > 0) return undefined
  const given = reading?.values ?? {}
  const stored = key === undefined ? undefined : findRecord(rulebook.model, table, key, data)
  const record = action === 'create' ? recordToCreate(rulebook, table, given, caller, now) : stored
  if (!record) return undefined
  const inquiry: Inquiry = { rulebook, table, action, caller, ...(reading && { fields: reading.fields }) }
  const stamps =
    action === 'create' ? {} : stampValues(stampsToSet(rulebook, table, action, caller, given), caller, now)
  const world = { caller, now, lookup: lookupIn(data), next: { ...record, ...given, ...stamps }, sent: given }
  // What is seen of it, too: that is among what is supposed to come out otherwise.
  const seen: Inquiry = { rulebook, table, action: 'get', caller }
  return { inquiry, facts: answer(questionsFor([inquiry, seen]), record, world) }
}

/** Of each check, how many tries it let through and how many only it refused. */
function checksCovered(
  bench: Workbench,
  table: string,
  expectations: readonly Expectation[],
  data: Data,
): readonly Covered[] {
  const { rulebook } = bench
  const tries = expectations.filter((each): each is TryExpectation => each.kind === 'try')
  const outcome = (each: TryExpectation, by: Rulebook) => {
    const asked = askTry(bench, by, each, data)
    return asked ? outcomeOf(asked.inquiry, asked.facts) : 'unfit'
  }
  return checksOf(rulesOf(rulebook, table)).map(({ name, fields, without }): Covered => {
    const changed = { ...rulebook, tables: { ...rulebook.tables, [table]: without } }
    const failed = tries.filter((each) => outcome(each, rulebook) !== outcome(each, changed))
    const held = tries.filter((each) => !failed.includes(each) && fields.some((field) => field in each.values))
    return { table, kind: 'check', name, held: held.length, failed: failed.length }
  })
}

interface PlacedCheck {
  readonly name: string
  /** The fields whose values it looks at, or speaks of. */
  readonly fields: readonly string[]
  readonly without: TableRules
}

function checksOf(rules: TableRules): readonly PlacedCheck[] {
  const { checks } = rules
  const ofFields = Object.entries(checks.fields).flatMap(([field, check]) =>
    (Object.keys(check) as (keyof typeof check)[]).map((part): PlacedCheck => {
      const fields = { ...checks.fields, [field]: omit(check, part) }
      return { name: `${part} of ${field}`, fields: [field], without: { ...rules, checks: { ...checks, fields } } }
    }),
  )
  const ofRecords = Object.entries(checks.records).map(([name, { fields }]): PlacedCheck => {
    const records = omit(checks.records, name)
    return { name, fields, without: { ...rules, checks: { ...checks, records } } }
  })
  return [...ofFields, ...ofRecords]
}
