import { print } from '../condition/index.js'
import { tableOf } from '../model/index.js'
import {
  type Action,
  asksCaller,
  covers,
  deniesFor,
  type Discretion,
  discretions,
  grantsFor,
  isFixed,
  permission,
  type PlacedGrant,
  recordChecks,
  rulesOf,
  stampsFor,
  type TableRules,
  type Who,
  whoCondition,
} from '../rules/index.js'
import {
  afterId,
  checkId,
  denyId,
  discretionId,
  type Facts,
  type Inquiry,
  type Moment,
  SIGHT,
  toldId,
  unchangedId,
  whenId,
  whoId,
} from './questions.js'

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
  /** What to tell the caller: never more than the caller may know. */
  readonly message: string
}

/** What is said of a key or a unique value, taken or not, and of a reference, to a hidden record or to none. */
const TAKEN = 'is not yours to choose'
const NOWHERE = 'leads to no record that you see'

/** Puts the facts about a record together to a verdict. */
export function verdictFrom(inquiry: Inquiry, facts: Facts): Verdict {
  const { rulebook, table, action, caller } = inquiry
  const rules = rulesOf(rulebook, table)
  const trusted = caller.trusted !== undefined
  const grants = grantsFor(rules, action).map((grant) => grantVerdict(inquiry, grant, facts))
  const denies = trusted ? [] : denyVerdicts(inquiry, rules, facts)
  const granted = trusted || grants.some((grant) => grant.holds)
  const denied = denies.filter((deny) => deny.holds)
  const seen = action === 'create' || facts(SIGHT)
  const open = granted && seen
  const untold = untoldBy(inquiry, facts)
  const fields = open && !trusted ? refusedFields(inquiry, rules, facts, untold) : {}
  const permitted = open && denied.length === 0 && Object.keys(fields).length === 0
  const invalid = permitted && !trusted ? failedChecks(inquiry, rules, facts, untold) : {}
  const allowed = permitted && Object.keys(invalid).length === 0
  const status = allowed ? 200 : permitted ? 422 : refusedStatus(inquiry, seen)
  // A rule's own message is for those whom only that rule stops, and who see what it stops them for.
  const told = status === 403 && open && Object.keys(fields).length === 0 && denied.find((deny) => deny.told)
  const message = told ? told.message : sentence(inquiry, status, fields)
  const withheld = untold
    .map(({ field }) => field)
    .filter((name) => fields[name] === TAKEN || Object.hasOwn(invalid, name))
  return { table, action, allowed, status, seen, grants, denies, fields, invalid, withheld, message }
}

function refusedStatus(inquiry: Inquiry, seen: boolean): 401 | 403 | 404 {
  if (!inquiry.caller.signedIn && signingInCouldHelp(inquiry)) return 401
  return seen ? 403 : 404
}

/** What the answer about the values given could tell of hidden records. */
const untoldBy = ({ rulebook, table, action, fields = [] }: Inquiry, facts: Facts): readonly Discretion[] =>
  discretions(rulebook, table, action, fields).filter((each) => !facts(discretionId(each)))

function failedChecks(
  { action, fields }: Inquiry,
  rules: TableRules,
  facts: Facts,
  untold: readonly Discretion[],
): Record<string, string> {
  if (action !== 'create' && fields === undefined) return {}
  // What a check finds beyond a reference that the caller may not give would tell of where it leads.
  const references = untold.filter(({ about }) => about === 'reference')
  if (references.length > 0) return Object.fromEntries(references.map(({ field }) => [field, NOWHERE]))
  const failed = recordChecks(rules).filter(({ name }) => !facts(checkId(name)))
  return Object.fromEntries(failed.flatMap(({ fields: named, message }) => named.map((field) => [field, message])))
}

/** The verdict for a caller who may not do this to any record at all, so that nothing need be looked up. */
export function closedVerdict(inquiry: Inquiry): Verdict {
  const { table, action } = inquiry
  const status = refusedStatus(inquiry, true)
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
    withheld: [],
    message,
  }
}

/** Whether some caller who has signed in might be allowed what this one is not. */
export function signingInCouldHelp({ rulebook, table, action }: Inquiry): boolean {
  return asksCaller(permission(rulebook, table, action))
}

function grantVerdict({ rulebook, table }: Inquiry, grant: PlacedGrant, facts: Facts): GrantVerdict {
  const rules = rulesOf(rulebook, table)
  const to = grant.to.map((who) => ({
    who: whoName(who),
    condition: print(whoCondition(rules, who)),
    holds: facts(whoId(who)),
  }))
  return {
    action: grant.action,
    holds: grantHolds(grant, facts),
    to,
    ...(grant.when && { when: { who: 'when', condition: print(grant.when), holds: facts(whenId(grant)) } }),
    ...(grant.fields && { fields: grant.fields }),
  }
}

/** Whether a grant holds by the facts. */
export function grantHolds(grant: PlacedGrant, facts: Facts, moment: Moment = 'before'): boolean {
  return grant.to.some((who) => facts(whoId(who, moment))) && (!grant.when || facts(whenId(grant, moment)))
}

function denyVerdicts({ action }: Inquiry, rules: TableRules, facts: Facts): readonly DenyVerdict[] {
  return deniesFor(rules, action).map(({ name, when, except, message }) => ({
    name,
    condition: print(when),
    message,
    holds: facts(denyId(name)) && !except.some((who) => facts(whoId(who))),
    told: facts(toldId(name)),
  }))
}

/** Law 5, field by field. */
function refusedFields(
  inquiry: Inquiry,
  rules: TableRules,
  facts: Facts,
  untold: readonly Discretion[],
): Record<string, string> {
  const { rulebook, table, action, fields = [] } = inquiry
  const changing = action !== 'create'
  const seers = grantsFor(rules, 'get')
  const grants = grantsFor(rules, action)
  const refused: Record<string, string> = {}
  for (const field of fields) {
    const sees = () => isKey(inquiry, field) || seers.some((grant) => covers(grant, field) && grantHolds(grant, facts))
    const stamped = Object.hasOwn(stampsFor(rules, action), field)
    const canStay = changing && !(stamped && action !== 'update')
    if (canStay && facts(unchangedId(field)) && sees()) continue
    const covering = grants.filter((grant) => covers(grant, field) && grantHolds(grant, facts))
    if (stamped) refused[field] = 'is set by the server'
    else if (changing && isKey(inquiry, field)) refused[field] = 'is part of the key, which never changes'
    else if (changing && isFixed(rulebook, table, action, field)) refused[field] = 'never changes'
    else if (covering.length === 0) refused[field] = 'is not yours to set'
    else if (changing && !covering.some((grant) => staysHeld(grant, facts))) {
      refused[field] = 'may not get this value from you'
    } else if (untold.some((each) => each.about === 'taken' && each.field === field)) refused[field] = TAKEN
  }
  return refused
}

const isKey = ({ rulebook, table }: Inquiry, field: string): boolean =>
  tableOf(rulebook.model, table).key.includes(field)

function staysHeld(grant: PlacedGrant, facts: Facts): boolean {
  return grant.after ? facts(afterId(grant)) : grantHolds(grant, facts, 'after')
}

/** The name of a tie, or a condition on the caller in words. */
export function whoName(who: Who): string {
  if (typeof who === 'string') return who
  return who.kind === 'always' ? 'anyone' : print(who)
}

/** How to say an action where its name does not serve. */
const VERBS: Readonly<Record<Action, string>> = { read: 'see', get: 'see' }

function sentence(
  { table, action }: Inquiry,
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
  if (names.length === 0) return `You may not ${verb} ${record}.`
  return `You may not set ${names.join(', ')} of ${table}: ${names.map((name) => `${name} ${fields[name]}`).join('; ')}.`
}
