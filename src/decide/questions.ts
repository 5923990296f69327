import { after, type Condition, unchanged } from '../condition/index.js'
import {
  type Action,
  type Caller,
  changesRecord,
  deniesFor,
  expand,
  grantsFor,
  permission,
  type PlacedGrant,
  recordChecks,
  type Rulebook,
  rulesOf,
  specialise,
  type TableRules,
  type Who,
  whoCondition,
  withoutChange,
} from '../rules/index.js'

/** One yes-or-no question about one record, which memory or a database can answer. */
export interface Question {
  readonly id: string
  readonly condition: Condition
}

/** The answers, by question. */
export type Facts = (id: string) => boolean

/** Whether a question is about the record as it is or as it will be. */
export type Moment = 'before' | 'after'

/** The name of the question whether a tie (or a condition on the caller) holds. */
export const whoId = (who: Who, moment: Moment = 'before'): string =>
  `${moment} ${typeof who === 'string' ? `tie ${who}` : `caller ${JSON.stringify(who)}`}`

/** The name of the question whether a grant's further condition holds. */
export const whenId = ({ action, index }: PlacedGrant, moment: Moment = 'before'): string =>
  `${moment} when ${action} ${index}`

/** The name of the question whether a grant's condition on the outcome of an update holds. */
export const afterId = ({ action, index }: PlacedGrant): string => `after ${action} ${index}`

/** The name of the question whether what a deny forbids is the case. */
export const denyId = (name: string): string => `deny ${name}`

/** The name of the question whether an update leaves a field as it is. */
export const unchangedId = (field: string): string => `unchanged ${field}`

/** The name of the question whether the new values pass a check. */
export const checkId = (name: string): string => `check ${name}`

/** The name of the question whether the caller can see the record. */
export const SIGHT = 'sight'

/** What is asked for a verdict. */
export interface Inquiry {
  readonly rulebook: Rulebook
  readonly table: string
  readonly action: Action
  readonly caller: Caller
  /** The fields that are set; left out, the question is about the record as it stands. */
  readonly fields?: readonly string[]
}

/**
 * The questions whose answers make up the verdict on some actions on one record, each asked once, with what
 * the caller decides already decided.
 */
export function questionsFor(inquiries: readonly Inquiry[], more: readonly Question[] = []): readonly Question[] {
  const questions = new Map(more.map((each) => [each.id, each]))
  for (const inquiry of inquiries) {
    const { rulebook, caller } = inquiry
    for (const [id, condition] of ask(inquiry)) {
      if (questions.has(id)) continue
      questions.set(id, { id, condition: specialise(expand(rulebook, condition), caller) })
    }
  }
  return [...questions.values()]
}

/** For each tie of a table, the question whether it holds. */
export function tieQuestions(rulebook: Rulebook, table: string, caller: Caller): readonly Question[] {
  return Object.entries(rulesOf(rulebook, table).ties).map(([name, tie]) => ({
    id: whoId(name),
    condition: specialise(expand(rulebook, tie), caller),
  }))
}

type Asked = Generator<readonly [id: string, condition: Condition]>

function* ask(inquiry: Inquiry): Asked {
  const { rulebook, table, action, fields } = inquiry
  const rules = rulesOf(rulebook, table)
  const changing = changesRecord(rules, action) && fields !== undefined
  yield* askGrants(rules, action)
  for (const { name, when, except } of deniesFor(rules, action)) {
    yield [denyId(name), changing ? when : withoutChange(when)]
    for (const who of except) yield [whoId(who), whoCondition(rules, who)]
  }
  if (action !== 'create') yield [SIGHT, permission(rulebook, table, action === 'list' ? 'list' : 'get')]
  if (changing) yield* askChange(rules, action, fields)
  else if (action === 'create') {
    for (const { name, that } of recordChecks(rules)) yield [checkId(name), withoutChange(that)]
  }
}

function* askGrants(rules: TableRules, action: Action): Asked {
  for (const grant of grantsFor(rules, action)) {
    for (const who of grant.to) yield [whoId(who), whoCondition(rules, who)]
    if (grant.when) yield [whenId(grant), grant.when]
  }
}

/** What law 5 asks besides: what is seen, what is changed, and what holds afterwards. */
function* askChange(rules: TableRules, action: Action, fields: readonly string[]): Asked {
  if (fields.length > 0) yield* askGrants(rules, 'get')
  for (const grant of fields.length > 0 ? grantsFor(rules, action) : []) {
    if (grant.after) yield [afterId(grant), after(grant.after)]
    for (const who of grant.to) yield [whoId(who, 'after'), after(whoCondition(rules, who))]
    if (grant.when) yield [whenId(grant, 'after'), after(grant.when)]
  }
  for (const field of fields) yield [unchangedId(field), unchanged(field)]
  for (const { name, that } of recordChecks(rules)) yield [checkId(name), after(that)]
}
