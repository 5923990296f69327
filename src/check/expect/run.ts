import { printKey } from '../../model/index.js'
import { type Explanation, explain } from '../explain/why.js'
import { missingKeys } from '../bench/keys.js'
import { countForMany } from '../look/reach.js'
import type { Workbench } from '../bench/workbench.js'
import { type Expectation, type Expectations, type SetExpectation, type TryExpectation } from './expectation.js'
import { looksFor } from './looks.js'
import { differences, type Difference, wantedFor } from './sets.js'
import { tryDifferences, tryWrite } from '../try/tries.js'

/** One thing that is not as it was expected. */
export interface Failure {
  readonly text: string
  /** The record it is about, by key. */
  readonly key?: string
  /** Why it is as it is. */
  readonly why?: Explanation
}

/** What came of one expectation. */
export interface Outcome {
  readonly expectation: Expectation
  readonly failures: readonly Failure[]
}

/** How a check is run. */
export interface RunOptions {
  /** Explains the first few failures of each expectation; takes more queries. */
  readonly explains?: boolean
  /** Stops after the first expectations that do not hold; what was not looked at yet counts as holding. */
  readonly stopsEarly?: boolean
  /** Told after each group of expectations how many of them are done. */
  readonly onProgress?: (done: number) => void
}

/** So many failures of one expectation are explained. */
const EXPLAINED = 3

const EXPLAINED_BY = { sees: 'list', gets: 'get', hidden: 'list', changes: 'update' } as const

/**
 * Holds expectations against what the store gives each caller. Nothing stays written.
 *
 * @example
 * const outcomes = await runExpectations(openWorkbench({ rules, callers, store }), expectations.all)
 * const failed = outcomes.filter(({ failures }) => failures.length > 0)
 */
export async function runExpectations(
  bench: Workbench,
  expectations: readonly Expectation[],
  { explains = false, stopsEarly = false, onProgress }: RunOptions = {},
): Promise<readonly Outcome[]> {
  const outcomes = new Map<Expectation, readonly Failure[]>()
  const all = groups(expectations)
  const counted = await countTogether(bench, all)
  let isEnough = false
  const note = (expectation: Expectation, failures: readonly Failure[]) => {
    outcomes.set(expectation, failures)
    isEnough ||= stopsEarly && failures.length > 0
  }
  for (const group of all) {
    for (const found of await checkSets(bench, setsIn(group), explains, counted.get(group))) note(...found)
    for (const each of group) {
      if (each.kind === 'try' && !isEnough) note(each, await checkTry(bench, each, explains))
    }
    onProgress?.(outcomes.size)
    if (isEnough) break
  }
  return expectations.map((expectation) => ({ expectation, failures: outcomes.get(expectation) ?? [] }))
}

/** The keys that are mentioned and that no record has, with the expectations that mention them. */
export async function unknownKeys(
  bench: Workbench,
  { all }: Expectations,
): Promise<readonly { readonly expectation: Expectation; readonly key: string }[]> {
  const found: { expectation: Expectation; key: string }[] = []
  for (const table of new Set(all.map((each) => each.table))) {
    const of = all.filter((each) => each.table === table)
    const missing = new Set(await missingKeys(bench, table, [...new Set(of.flatMap(keysMentioned))]))
    for (const expectation of of) {
      for (const key of keysMentioned(expectation)) if (missing.has(key)) found.push({ expectation, key })
    }
  }
  return found
}

function keysMentioned(expectation: Expectation): readonly string[] {
  if (expectation.kind === 'try') return expectation.key === undefined ? [] : [expectation.key]
  const { exactly, atLeast, noneOf = [] } = expectation.expected
  return [exactly, atLeast, noneOf].flatMap((keys) => (typeof keys === 'object' ? keys : []))
}

/** What is expected of one caller and one table is looked at together. */
function groups(expectations: readonly Expectation[]): readonly (readonly Expectation[])[] {
  const grouped = new Map<string, Expectation[]>()
  for (const each of expectations) {
    const name = JSON.stringify([each.caller, each.table])
    const group = grouped.get(name)
    if (group) group.push(each)
    else grouped.set(name, [each])
  }
  return [...grouped.values()]
}

const setsIn = (group: readonly Expectation[]) => group.filter((each): each is SetExpectation => each.kind === 'set')

/** From so many callers on, what they see of one table is counted together. */
const MANY = 20

/** Counts what is only to be counted, where many callers are to be: one by one, each would cost a query. */
async function countTogether(
  bench: Workbench,
  all: readonly (readonly Expectation[])[],
): Promise<ReadonlyMap<readonly Expectation[], number>> {
  const counted = new Map<readonly Expectation[], number>()
  const counting = all.filter((group) => {
    const { count, whole } = wantedFor(setsIn(group))
    return count !== false && !whole
  })
  for (const table of new Set(counting.map(([first]) => first?.table ?? ''))) {
    const of = counting.filter(([first]) => first?.table === table)
    if (of.length < MANY) continue
    const callers = of.map(([first]) => first?.caller ?? '')
    const counts = await countForMany(bench, table, callers)
    for (const [at, group] of of.entries()) {
      const count = counts.get(callers[at] as string)
      if (count !== undefined) counted.set(group, count)
    }
  }
  return counted
}

async function checkSets(
  bench: Workbench,
  expectations: readonly SetExpectation[],
  explains: boolean,
  count: number | undefined,
): Promise<readonly (readonly [Expectation, readonly Failure[]])[]> {
  const [first] = expectations
  if (!first) return []
  const { caller, table } = first
  const looks = await looksFor(bench, caller, table, expectations, count)
  const allKeys = async () =>
    (await bench.everything.list(table, { fields: [] })).map((each) => printKey(bench.rulebook.model, table, each))
  const checked: (readonly [Expectation, readonly Failure[]])[] = []
  for (const each of expectations) {
    const found = await differences(each, looks(each.about), allKeys)
    const failures: Failure[] = []
    for (const difference of found) {
      failures.push(await failureFrom(bench, each, difference, explains && failures.length < EXPLAINED))
    }
    checked.push([each, failures])
  }
  return checked
}

async function failureFrom(
  bench: Workbench,
  { caller, table, about }: SetExpectation,
  { key, text }: Difference,
  explains: boolean,
): Promise<Failure> {
  if (key === undefined) return { text }
  if (!explains) return { text, key }
  const action = 'action' in about ? about.action : EXPLAINED_BY[about.what]
  const field = 'field' in about ? { field: about.field } : {}
  return { text, key, why: await explain(bench, { caller, table, action, key, ...field }) }
}

async function checkTry(bench: Workbench, expected: TryExpectation, explains: boolean): Promise<readonly Failure[]> {
  const { caller, table, action, key, values, at } = expected
  const tried = await tryWrite(bench, expected)
  const then = at ? bench.instead({ clock: () => at }) : bench
  const failures: Failure[] = []
  for (const text of tryDifferences(bench, expected, tried)) {
    const why = explains && key !== undefined && failures.length === 0
    failures.push({
      text,
      ...(key !== undefined && { key }),
      ...(why && { why: await explain(then, { caller, table, action, key, values }) }),
    })
  }
  return failures
}
