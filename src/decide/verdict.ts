import { asksCaller, type Condition, print } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import {
  type Action,
  type Caller,
  covers,
  deniesFor,
  type Discretion,
  discretions,
  grantsFor,
  inForce,
  isFixed,
  type NamedDeny,
  permission,
  type PlacedGrant,
  recordChecks,
  type RulesInForce,
  stampsFor,
  type Who,
  whoCondition,
} from '../rules/index.js'
import { holding, striking } from './holding.js'
import {
  afterId,
  checkId,
  denyId,
  discretionId,
  type Facts,
  type Inquiry,
  SIGHT,
  type Subject,
  toldId,
  unchangedId,
  whenId,
  whoId,
} from './questions.js'
import type { Reading } from './values.js'

/** One part of a grant: what it asks, in words, and whether that is so. */
export interface PartVerdict {
  /** The tie's name, or the condition on the caller. */
  readonly who: string
  /** What it asks of record and caller. */
  readonly condition: string
  readonly holds: boolean
}

/** A grant that could have opened the action, and whether it did. */
export interface GrantVerdict {
  /** The action it is written under: `read` also opens `list` and `get`. */
  readonly action: Action
  readonly holds: boolean
  readonly to: readonly PartVerdict[]
  readonly when?: PartVerdict
  readonly fields?: readonly string[]
}

/** A deny that bears on the action, and whether it struck. */
export interface DenyVerdict {
  readonly name: string
  readonly condition: string
  readonly holds: boolean
  /** Whether it may be told that it struck: by what the caller sees alone, it did. */
  readonly told: boolean
  readonly message: string
}

/** A check that fails. */
export interface FailedCheck {
  readonly name: string
  readonly fields: readonly string[]
  /** Whether it may be told that it fails, whatever else is wrong: by what the caller sees alone, it does. */
  readonly told: boolean
  readonly message: string
}

type Fields = Readonly<Record<string, string>>

/** What is wrong with values themselves, by field. */
type Problems = Reading['problems']

/** The answer to whether a caller may do something, with all that led to it. */
export interface Verdict {
  readonly table: string
  readonly action: Action
  readonly allowed: boolean
  /** The HTTP status that fits: 200, 401 (sign in), 403 (forbidden), 404 (not visible) or 422 (a check failed). */
  readonly status: 200 | 401 | 403 | 404 | 422
  /** Whether the caller can see the record; true for a new one. */
  readonly seen: boolean
  readonly grants: readonly GrantVerdict[]
  readonly denies: readonly DenyVerdict[]
  /** Why fields may not be set, by field. */
  readonly fields: Readonly<Record<string, string>>
  /** Of these, those whose answer would tell of records the caller does not see, unless the table says `conflicts('told')`. */
  readonly withheld: readonly string[]
  /** What is wrong with values that the caller may set, by field. */
  readonly invalid: Readonly<Record<string, string>>
  /** The checks that fail. */
  readonly failed: readonly FailedCheck[]
  /** What to tell the caller: never more than the caller may know. */
  readonly message: string
}

/** What is said of a key or a unique value, taken or not, and of a reference, to a hidden record or to none. */
const TAKEN = 'is not yours to choose'
const NOWHERE = 'leads to no record that you see'

/** Puts the facts about a record together to a verdict. */
export const verdictFrom = (inquiry: Inquiry, facts: Facts, problems?: Problems): Verdict =>
  verdictReader(inquiry)(inquiry.caller, facts, problems)

/** Prepares to put facts together to verdicts: the rules are gone through once, for all callers and records. */
export function verdictReader(subject: Subject): (caller: Caller, facts: Facts, problems?: Problems) => Verdict {
  const { rulebook, table, action } = subject
  const rules = inForce(rulebook, table)
  const readGrants = grantsFor(rules, action).map((grant) => grantReader(rules, grant))
  const readDenies = deniesFor(rules, action).map(denyReader)
  const discreet = discretions(rulebook, table, action, subject.fields ?? []).map((each) => ({
    ...each,
    id: discretionId(each),
  }))
  const refusedFields = fieldsReader(subject, rules)
  const failedChecks = checksReader(subject, rules)
  return (caller, facts, problems = NO_PROBLEMS) => {
    const trusted = caller.trusted !== undefined
    const grants = readGrants.map((read) => read(facts))
    const denies = trusted ? NONE : readDenies.map((read) => read(facts))
    const granted = trusted || grants.some((grant) => grant.holds)
    const denied = denies.length === 0 ? NONE : denies.filter((deny) => deny.holds)
    const seen = action === 'create' || facts(SIGHT)
    const open = granted && seen
    const untold = discreet.length === 0 ? NONE : discreet.filter(({ id }) => !facts(id))
    const fields = open && !trusted ? refusedFields(facts, untold) : NO_FIELDS
    // What is stamped, the caller did not choose: then it is none of the fields that stands in the way.
    const kept = untold.some(({ about }) => about === 'stamped')
    const permitted = open && denied.length === 0 && isEmpty(fields) && !kept
    const failed = permitted && !trusted ? failedChecks(facts) : NONE
    const amiss = failed.length + untold.length + problems.size > 0
    const invalid = permitted && amiss ? invalidBy(failed, untold, problems) : NO_FIELDS
    const allowed = permitted && failed.length === 0 && isEmpty(invalid)
    const status = allowed ? 200 : permitted ? 422 : refusedStatus(subject, caller, seen)
    // A rule's own message is for those whom only that rule stops, and who see what it stops them for.
    const told = status === 403 && open && isEmpty(fields) && !kept && denied.find((deny) => deny.told)
    const message = told ? told.message : sentence(subject, status, fields)
    const withheld = untold.length === 0 ? NONE : withheldOf(untold, fields, invalid)
    return { table, action, allowed, status, seen, grants, denies, fields, invalid, failed, withheld, message }
  }
}

/** Most verdicts have none of most things. */
const NONE: readonly never[] = Object.freeze([])

const NO_FIELDS: Fields = Object.freeze({})

const NO_PROBLEMS: Problems = new Map()

const isEmpty = (problems: Fields): boolean => problems === NO_FIELDS || Object.keys(problems).length === 0

const withheldOf = (untold: readonly Discretion[], fields: Fields, invalid: Fields): readonly string[] =>
  untold
    .filter(({ about, field }) => about === 'stamped' || fields[field] === TAKEN || Object.hasOwn(invalid, field))
    .map(({ field }) => field)

function refusedStatus(subject: Subject, caller: Caller, seen: boolean): 401 | 403 | 404 {
  if (!caller.signedIn && signingInCouldHelp(subject)) return 401
  return seen ? 403 : 404
}

/** What a check that names no field is about: the values as a whole. */
const WHOLE = ['values']

function checksReader({ action, fields }: Subject, rules: RulesInForce): (facts: Facts) => readonly FailedCheck[] {
  const checks = action === 'create' || fields ? recordChecks(rules) : NONE
  return (facts) =>
    checks.flatMap(({ name, fields, message }) => {
      const id = checkId(name)
      return facts(id) ? [] : [{ name, fields: fields.length > 0 ? fields : WHOLE, message, told: facts(toldId(id)) }]
    })
}

/**
 * Why values that may be set do not fit, by field. Of a check that rests on what is hidden, those are told whom it alone
 * stops, as it has to be: otherwise, values that are wrong in any case would find out what it makes of others.
 */
function invalidBy(failed: readonly FailedCheck[], untold: readonly Discretion[], problems: Problems): Fields {
  const references = untold.filter(({ about }) => about === 'reference')
  const nowhere = references.map(({ field }) => [field, NOWHERE] as const)
  // What a check finds beyond a reference that the caller may not give would tell of where it leads.
  if (references.length > 0) return byField([...nowhere, ...problems])
  const told = failed.filter((check) => check.told)
  const checks = told.length > 0 || problems.size > 0 ? told : failed.slice(0, 1)
  return byField([...checks.flatMap(({ fields, message }) => fields.map((field) => [field, message])), ...problems])
}

const byField = (problems: readonly (readonly string[])[]): Fields => Object.fromEntries(problems) as Fields

/** The verdict for a caller who may not do this to any record at all, so that nothing need be looked up. */
export function closedVerdict(inquiry: Inquiry): Verdict {
  const { table, action } = inquiry
  const status = refusedStatus(inquiry, inquiry.caller, true)
  const message = sentence(inquiry, status, {}, true)
  return {
    table,
    action,
    allowed: false,
    status,
    seen: false,
    grants: [],
    denies: [],
    fields: {},
    invalid: {},
    failed: [],
    withheld: [],
    message,
  }
}

/** Whether some caller who has signed in might be allowed what this one is not. */
export function signingInCouldHelp({ rulebook, table, action }: Subject): boolean {
  return asksCaller(permission(rulebook, table, action))
}

function grantReader(rules: RulesInForce, grant: PlacedGrant): (facts: Facts) => GrantVerdict {
  const { action, fields, when } = grant
  const who = grant.to.map((each) => partReader(whoName(each), whoCondition(rules, each), whoId(each)))
  const holds = holding(grant)
  const further = when && partReader('when', when, whenId(grant))
  return (facts) => {
    const to = who.map((read) => read(facts))
    if (!further && !fields) return { action, holds: holds(facts), to }
    return { action, holds: holds(facts), to, ...(further && { when: further(facts) }), ...(fields && { fields }) }
  }
}

function partReader(who: string, asks: Condition, id: string): (facts: Facts) => PartVerdict {
  const condition = print(asks)
  return (facts) => ({ who, condition, holds: facts(id) })
}

function denyReader(deny: NamedDeny): (facts: Facts) => DenyVerdict {
  const { name, message } = deny
  const condition = print(deny.when)
  const [strikes, told] = [striking(deny), toldId(denyId(name))]
  return (facts) => ({ name, condition, message, holds: strikes(facts), told: facts(told) })
}

/** Law 5, field by field. */
function fieldsReader({ rulebook, table, action, fields = [] }: Subject, rules: RulesInForce) {
  const changing = action !== 'create'
  const { key } = tableOf(rulebook.model, table)
  const covering = (field: string) =>
    grantsFor(rules, action)
      .filter((grant) => covers(grant, field))
      .map((grant) => ({ holds: holding(grant), stays: staying(grant) }))
  const asked = fields.map((field) => {
    const isKey = key.includes(field)
    const stamped = Object.hasOwn(stampsFor(rules, action), field)
    const never = stamped
      ? 'is set by the server'
      : changing && isKey
        ? 'is part of the key, which never changes'
        : changing && isFixed(rulebook, table, action, field)
          ? 'never changes'
          : undefined
    const unchanged = changing && !(stamped && action !== 'update') ? unchangedId(field) : undefined
    return { field, never, unchanged, setters: covering(field) }
  })
  return (facts: Facts, untold: readonly Discretion[]): Fields => {
    if (asked.length === 0) return NO_FIELDS
    const refused: Record<string, string> = {}
    for (const { field, never, unchanged, setters } of asked) {
      if (unchanged !== undefined && facts(unchanged)) continue
      const setting = setters.filter(({ holds }) => holds(facts))
      if (never) refused[field] = never
      else if (setting.length === 0) refused[field] = 'is not yours to set'
      else if (changing && !setting.some(({ stays }) => stays(facts))) {
        refused[field] = 'may not get this value from you'
      } else if (untold.some((each) => each.about === 'taken' && each.field === field)) refused[field] = TAKEN
    }
    return refused
  }
}

/** Prepares to say whether a grant holds after a change as well, or what it asks instead. */
function staying(grant: PlacedGrant): (facts: Facts) => boolean {
  const id = afterId(grant)
  return grant.after ? (facts) => facts(id) : holding(grant, 'after')
}

/** The name of a tie, or a condition on the caller in words. */
export function whoName(who: Who): string {
  if (typeof who === 'string') return who
  return who.kind === 'always' ? 'anyone' : print(who)
}

/** How to say an action where its name does not serve. */
const VERBS: Readonly<Record<Action, string>> = { read: 'see', get: 'see' }

/** What is said of a record that is seen, where no more may be told than that this is not for the caller. */
export const forbiddenText = (table: string, action: Action): string =>
  `You may not ${VERBS[action] ?? action} this record of ${table}.`

function sentence(
  { table, action }: Subject,
  status: Verdict['status'],
  fields: Readonly<Record<string, string>>,
  any = false,
): string {
  const verb = VERBS[action] ?? action
  const record = any ? `records of ${table}` : `this record of ${table}`
  if (status === 200) return `You may ${verb} ${record}.`
  if (status === 404) return `There is no such record in ${table}.`
  if (status === 422) return `These values do not fit ${table}.`
  if (status === 401) return `You have to sign in to ${verb} ${record}.`
  const names = Object.keys(fields)
  if (names.length === 0) return any ? `You may not ${verb} ${record}.` : forbiddenText(table, action)
  return `You may not set ${names.join(', ')} of ${table}: ${names.map((name) => `${name} ${fields[name]}`).join('; ')}.`
}
