import { stringify } from 'yaml'
import { type Data, decide, type MemoryRecord } from '../../decide/index.js'
import { InputError, tableOf, toJson, type Value, isMissing } from '../../model/index.js'
import { type Action, anonymous, isRead, type Rulebook, rulesOf, trusted } from '../../rules/index.js'
import { candidates } from './candidates.js'
import { type Change, compareRulebooks } from '../compare/compare.js'
import { findRecord, readData } from '../bench/data.js'
import { type Attempt, type Tried, tryWrite } from '../try/tries.js'
import type { Aspect, SetExpectation } from '../expect/index.js'
import { fails } from './fails.js'
import type { Mutant } from './mutants.js'
import { takesValues } from '../bench/values.js'
import type { Workbench } from '../bench/workbench.js'

/** So many candidates are decided in memory, and so many of those that differ are tried on the database. */
const DECIDED = 4_000
const TRIED = 12

/** Finds expectations that are true now, and would not be under other rules. */
export type Suggest = (mutant: Mutant) => Promise<string>

/** Prepares to suggest expectations: the records are read once, on first use. */
export function suggester(bench: Workbench): Suggest {
  // Where there are too many records to search, nothing is searched.
  let data: Promise<Data | undefined> | undefined
  return async (mutant) => {
    const { changes } = await compareRulebooks(bench, mutant.rulebook)
    const changed = bench.instead({ rules: mutant.rulebook })
    for (const change of changes.filter(({ action }) => action !== 'create')) {
      const expectation = expectationOf(change)
      // A field that is seen in another way all the same tells no difference.
      if (await fails(changed, [expectation])) return written(change.caller, change.table, statementOf(expectation))
    }
    const found = await searchWrite(bench, mutant, await (data ??= readData(bench).catch(() => undefined)))
    return (
      found ??
      'Nothing that the callers do to these records tells the difference: add a caller or a record on which it decides.'
    )
  }
}

const written = (caller: string, table: string, statement: object): string =>
  stringify({ callers: { [caller]: { [table]: statement } } }).trimEnd()

/** What is so before a change, and is not after it. */
function expectationOf({ caller, table, action, field, gained, lost }: Change): SetExpectation {
  const widens = gained.count > 0
  const keys = (widens ? gained : lost).keys.slice(0, 1)
  const about = aspectOf(action, field)
  return {
    kind: 'set',
    caller,
    table,
    about,
    expected: widens === (about.what === 'hidden') ? { atLeast: keys } : { noneOf: keys },
  }
}

function aspectOf(action: Action, field: string | undefined): Aspect {
  if (field !== undefined) return { what: isRead(action) ? 'hidden' : 'changes', field }
  return isRead(action) ? { what: action === 'get' ? 'gets' : 'sees' } : { what: 'may', action }
}

function statementOf({ about, expected }: SetExpectation): object {
  const name = 'action' in about ? about.action : 'field' in about ? about.field : undefined
  return { [about.what]: name === undefined ? expected : { [name]: expected } }
}

/**
 * A write that comes out otherwise under the changed rules; found in memory, and tried on the database. One that passes under
 * the one or the other, where there is one: of what is refused either way, nobody learns much.
 */
async function searchWrite(
  bench: Workbench,
  { table, rulebook, action }: Mutant,
  data: Data | undefined,
): Promise<string | undefined> {
  if (!data || table === undefined) return undefined
  const changed = bench.instead({ rules: rulebook })
  const stamps =
    JSON.stringify(rulesOf(rulebook, table).stamps) !== JSON.stringify(rulesOf(bench.rulebook, table).stamps)
  const now = bench.clock()
  let [decided, tried] = [0, 0]
  const refused: Attempt[] = []
  const stated = async (attempt: Attempt) => {
    const expected = await asExpected(bench, changed, attempt)
    return expected && written(attempt.caller, attempt.table, { tries: [expected] })
  }
  const actions = action === undefined || isRead(action) ? undefined : [action]
  for (const attempt of candidates(bench.rulebook, table, signedInFirst(bench), data[table] ?? [], now, actions)) {
    if ((decided += 1) > DECIDED || tried === TRIED) break
    const answers = [bench.rulebook, rulebook].map((rules) => answerTo(bench, rules, attempt, data))
    const passes = answers.some((answer) => answer.startsWith('200'))
    if (answers[0] === answers[1] && !(stamps && passes)) continue
    if (!passes) {
      refused.push(attempt)
      continue
    }
    tried += 1
    const text = await stated(attempt)
    if (text) return text
  }
  for (const attempt of refused.slice(0, TRIED)) {
    const text = await stated(attempt)
    if (text) return text
  }
  return undefined
}

/** Of those who have signed in, what is done tells more than of those who are told to. */
const signedInFirst = ({ names, caller }: Workbench): readonly string[] =>
  [...names].sort((left, right) => Number(caller(right).signedIn) - Number(caller(left).signedIn))

/** What memory says comes of a write: the status, and the message. */
function answerTo(bench: Workbench, rulebook: Rulebook, attempt: Attempt, data: Data): string {
  const { caller, table, action, key, values } = attempt
  const record = key === undefined ? undefined : findRecord(rulebook.model, table, key, data)
  const asked = { action, table, values, data, now: bench.clock(), ...(record && { record }) }
  try {
    const { status, message } = decide(rulebook, { ...asked, caller: callerOf(bench.caller(caller)) })
    return `${status} ${message}`
  } catch (error) {
    if (error instanceof InputError) return `${error.status} ${error.message}`
    throw error
  }
}

/** A checked caller as an app would hand it over. */
const callerOf = ({
  signedIn,
  roles,
  attributes,
  channel,
  trusted: reason,
}: ReturnType<Workbench['caller']>): unknown =>
  reason !== undefined
    ? trusted(reason)
    : { ...(signedIn ? { ...attributes, roles } : anonymous), ...(channel !== undefined && { channel }) }

/** The try as it could stand in a file, where it comes out otherwise under the changed rules. */
async function asExpected(bench: Workbench, changed: Workbench, attempt: Attempt): Promise<object | undefined> {
  const { table, action, key, values } = attempt
  const [is, would] = [
    await tryWrite(bench, attempt),
    await tryWrite(changed, attempt).catch((): Tried => ({ status: 500 })),
  ]
  const after = (one: { readonly after?: MemoryRecord }, name: string) => plain(bench, table, name, one.after?.[name])
  const names = Object.keys(tableOf(bench.rulebook.model, table).fields).filter(
    (name) => !tableOf(bench.rulebook.model, table).key.includes(name),
  )
  const otherwise = names.filter(
    (name) => is.after && JSON.stringify(after(is, name)) !== JSON.stringify(after(would, name)),
  )
  const sameStatus = is.status === would.status
  const saysOther = sameStatus && is.message !== undefined && is.message !== would.message
  if (sameStatus && !saysOther && otherwise.length === 0) return undefined
  const given = Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, plain(bench, table, name, value)]),
  )
  return {
    [action]: key === undefined ? null : key,
    ...(takesValues(rulesOf(bench.rulebook, table), action) && Object.keys(given).length > 0 && { with: given }),
    status: is.status,
    ...(saysOther && { message: is.message }),
    ...(sameStatus &&
      otherwise.length > 0 && { stored: Object.fromEntries(otherwise.map((name) => [name, after(is, name)])) }),
  }
}

const plain = ({ rulebook }: Workbench, table: string, name: string, value: unknown): unknown =>
  isMissing(value) ? null : toJson(tableOf(rulebook.model, table).fields[name] as never, value as Value)
