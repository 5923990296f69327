import {
  allOf,
  always,
  type Condition,
  never,
  normalise,
  type Operand,
  operandsOf,
  partsOf,
  refersOutside,
  rewrite,
  shift,
  type Some,
} from '../condition/index.js'
import { valueWithoutRecord } from '../decide/index.js'
import { isMissing, toPlain, type Shape, UnknownNameError, type Value } from '../model/index.js'
import { assertAction, expand, type Rulebook, rulesOf, specialise } from '../rules/index.js'
import { decidedPermission } from './requests.js'
import { run, type Session } from './session.js'

/** What a caller may read, decided as far as that goes without a look at the records themselves. */
export interface Decided {
  readonly rulebook: Rulebook
  /** Plain data: the caller and the moment stand in it as values, and negations before comparisons and steps only. */
  readonly condition: Condition
}

/**
 * The condition on what the caller may read, with the values of the caller and of the moment in place. What the records that
 * the caller is found in say, such as roles, is looked up now.
 */
export async function decided(session: Session, table: string, action: 'read' | 'list' | 'get'): Promise<Decided> {
  const { rulebook } = session
  assertAction(rulesOf(rulebook, table), table, action)
  const open = decidedPermission(session, table, action === 'get' ? 'get' : 'list')
  return { rulebook, condition: await lookedUp(session, open) }
}

/** Whether the caller has a role at this moment, by the caller's word, by another that implies it, or by the caller's own record. */
export async function hasRole(session: Session, role: string): Promise<boolean> {
  const { rulebook, caller } = session
  const { roles } = rulebook.caller
  if (!roles.includes(role)) throw new UnknownNameError('role', role, roles)
  const condition = specialise(expand(rulebook, { kind: 'role', anyOf: [role] }), caller)
  return (await lookedUp(session, condition)).kind === 'always'
}

/** The roles that the caller has at this moment. */
export async function rolesNow(session: Session): Promise<readonly string[]> {
  const had: string[] = []
  for (const role of session.rulebook.caller.roles) if (await hasRole(session, role)) had.push(role)
  return had
}

/** A condition with the values in place, and what begins at no record but at the caller looked up. */
async function lookedUp(session: Session, open: Condition): Promise<Condition> {
  const condition = putInPlace(session, open, session.clock())
  const found = new Map<string, Condition>()
  for (const step of stepsFromValues(condition)) {
    const asked = JSON.stringify(step)
    if (!found.has(asked)) found.set(asked, (await leadsToOne(session, step)) ? always : never)
  }
  const answered = (part: Condition) => (part.kind === 'some' && found.get(JSON.stringify(part))) || part
  return normalise(condition, answered)
}

/** The steps that begin at no record, but at the caller. */
const stepsFromValues = (condition: Condition): readonly Some[] =>
  condition.kind === 'some' && isOfCaller(condition) ? [condition] : partsOf(condition).flatMap(stepsFromValues)

const isOfCaller = ({ from, to, where, chain }: Some): boolean =>
  from.kind === 'value' && chain === undefined && !refersOutside(where, to.level)

function leadsToOne(session: Session, { table, from, to, where }: Some): Promise<boolean> | boolean {
  const left: Operand = { kind: 'field', level: 0, name: to.field }
  const filter = allOf({ kind: 'compare', how: 'is', left, right: from }, shift(where, -to.level))
  return run(session, session.backend.exists({ table, filter: normalise(filter) }))
}

function putInPlace(session: Session, condition: Condition, now: Date): Condition {
  const put = (operand: Operand) => inPlace(session, operand, now)
  const putAll = (each: Condition): Condition =>
    normalise(each, (leaf) => {
      if (operandsOf(leaf).every(({ kind }) => kind !== 'caller' && kind !== 'now')) return leaf
      // A missing value is what no comparison holds of.
      if (operandsOf(leaf).some((operand) => put(operand) === undefined)) return never
      return rewrite(leaf, { operand: (operand) => put(operand) ?? operand, part: putAll })
    })
  return putAll(condition)
}

/** An operand as a value, where no record has a say in it; nothing where that is missing. */
function inPlace({ rulebook, caller }: Session, operand: Operand, now: Date): Operand | undefined {
  if (operand.kind !== 'caller' && operand.kind !== 'now') return operand
  if (operand.kind === 'caller' && !caller.signedIn) return undefined
  const value = valueWithoutRecord(operand, caller, now)
  if (isMissing(value)) return undefined
  const shape =
    operand.kind === 'now' ? MOMENT : operand.name === 'roles' ? NAMES : rulebook.caller.attributes[operand.name]
  return shape && { kind: 'value', shape, value: toPlain(shape, value as Value) }
}

const MOMENT: Shape = { type: 'timestamp' }
const NAMES: Shape = { type: 'list', item: 'text' }
