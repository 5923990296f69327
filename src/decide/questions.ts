import { after, allOf, always, anyOf, type Condition, never, notOf } from '../condition/index.js'
import {
  type Action,
  asTold,
  type Caller,
  changesRecord,
  deniesFor,
  type Discretion,
  discretions,
  expand,
  fair,
  grantsFor,
  inForce,
  leftAsIs,
  permission,
  type PlacedGrant,
  recordChecks,
  type Rulebook,
  type RulesInForce,
  specialise,
  supposing,
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

/** The name of a question: its parts written so that no two questions, whatever they are about, have one name. */
const named = (...parts: readonly (string | number | Condition)[]): string => JSON.stringify(parts)

/** The name of the question whether a tie (or a condition on the caller) holds. */
export const whoId = (who: Who, moment: Moment = 'before'): string =>
  named(typeof who === 'string' ? 'tie' : 'caller', moment, who)

/** The name of the question whether a grant's further condition holds. */
export const whenId = ({ action, index }: PlacedGrant, moment: Moment = 'before'): string =>
  named('when', moment, action, index)

/** The name of the question whether a grant's condition on the outcome of an update holds. */
export const afterId = ({ action, index }: PlacedGrant): string => named('outcome', action, index)

/** The name of the question whether what a deny forbids is the case. */
export const denyId = (name: string): string => named('deny', name)

/** The name of the question whether, by what the caller sees alone, a deny forbids it or a check fails. */
export const toldId = (question: string): string => named('told', question)

/** The name of the question whether an update leaves a field as it is. */
export const unchangedId = (field: string): string => named('unchanged', field)

/** The name of the question whether the new values pass a check. */
export const checkId = (name: string): string => named('check', name)

/** The name of the question whether a value given to a field tells nothing of hidden records. */
export const discretionId = ({ about, field }: Discretion): string => named(about, field)

/** The name of the question whether the caller can see the record. */
export const SIGHT = named('sight')

/** What is asked for a verdict. */
export interface Inquiry {
  readonly rulebook: Rulebook
  readonly table: string
  readonly action: Action
  readonly caller: Caller
  /** The fields that are set; left out, the question is about the record as it stands. */
  readonly fields?: readonly string[]
  /** Those of them whose values are no values of theirs: what hangs on them is not held against the caller. */
  readonly unfit?: readonly string[]
}

/** What a verdict is about, whoever asks. */
export type Subject = Omit<Inquiry, 'caller'>

/** The questions whose answers make up a verdict, for any caller. */
export function questionsAbout(subject: Subject): readonly Question[] {
  const { rulebook, action, unfit = [] } = subject
  const questions = new Map<string, Question>()
  for (const [id, condition, outcome = always] of ask(subject)) {
    if (questions.has(id)) continue
    const whole = expand(rulebook, condition)
    const of = action === 'create' ? 'record' : 'change'
    const fit = unfit.length === 0 ? whole : supposing(whole, (field) => unfit.includes(field), outcome, of)
    questions.set(id, { id, condition: fit })
  }
  return [...questions.values()]
}

/**
 * The questions whose answers make up the verdict on some actions on one record, each asked once, with what
 * the caller decides already decided.
 */
export function questionsFor(inquiries: readonly Inquiry[], more: readonly Question[] = []): readonly Question[] {
  const questions = new Map(more.map((each) => [each.id, each]))
  for (const inquiry of inquiries) {
    for (const { id, condition } of questionsAbout(inquiry)) {
      if (!questions.has(id)) questions.set(id, { id, condition: specialise(condition, inquiry.caller) })
    }
  }
  return [...questions.values()]
}

/** A question, and how it comes out where it hangs on a value that is none: in favour of the caller. */
type Asked = Generator<readonly [id: string, condition: Condition, outcome?: typeof always | typeof never]>

function* ask(subject: Subject): Asked {
  const { rulebook, table, action, fields } = subject
  const rules = inForce(rulebook, table)
  const changing = changesRecord(rules, action) && fields !== undefined
  yield* askGrants(rules, action)
  for (const { name, when, except } of deniesFor(rules, action)) {
    const asked = changing ? fair(rulebook, table, when, fields) : withoutChange(when)
    yield [denyId(name), asked, never]
    // Whom it strikes hangs on who is exempt as well.
    const struck = allOf(asked, notOf(anyOf(...except.map((who) => whoCondition(rules, who)))))
    yield askTold(subject, denyId(name), struck)
    for (const who of except) yield [whoId(who), whoCondition(rules, who)]
  }
  if (action !== 'create') yield [SIGHT, permission(rulebook, table, action === 'list' ? 'list' : 'get')]
  if (changing) yield* askChange(subject, fields)
  if (changing || action === 'create') {
    for (const { name, that } of recordChecks(rules)) {
      const asked = changing ? fair(rulebook, table, after(that), fields) : withoutChange(that)
      yield [checkId(name), asked]
      yield askTold(subject, checkId(name), notOf(asked))
    }
    for (const each of discretions(rulebook, table, action, fields ?? [])) yield [discretionId(each), each.that]
  }
}

/** Whoever creates a record knows all of it: how it would be seen can hang on what is hidden. */
const askTold = ({ rulebook, table, action }: Subject, id: string, condition: Condition) =>
  [
    toldId(id),
    asTold(rulebook, expand(rulebook, condition), [table], action === 'create' ? 'all' : 'get'),
    never,
  ] as const

function* askGrants(rules: RulesInForce, action: Action): Asked {
  for (const grant of grantsFor(rules, action)) {
    for (const who of grant.to) yield [whoId(who), whoCondition(rules, who)]
    if (grant.when) yield [whenId(grant), grant.when]
  }
}

/** What law 5 asks besides: what is seen, what is changed, and what holds afterwards. */
function* askChange({ rulebook, table, action }: Subject, fields: readonly string[]): Asked {
  const rules = inForce(rulebook, table)
  for (const grant of fields.length > 0 ? grantsFor(rules, action) : []) {
    if (grant.after) yield [afterId(grant), fair(rulebook, table, after(grant.after), fields)]
    for (const who of grant.to) yield [whoId(who, 'after'), after(whoCondition(rules, who))]
    if (grant.when) yield [whenId(grant, 'after'), after(grant.when)]
  }
  for (const field of fields) yield [unchangedId(field), leftAsIs(rulebook, table, field)]
}
