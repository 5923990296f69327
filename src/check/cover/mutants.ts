import { always, type Condition, never, partsOf, print, rewrite } from '../../condition/index.js'
import { whoName } from '../../decide/index.js'
import { tableOf } from '../../model/index.js'
import {
  type Action,
  type Grant,
  isFixed,
  isRead,
  noteChecked,
  type Rulebook,
  rulesOf,
  type TableRules,
} from '../../rules/index.js'
import { omit } from './omit.js'

/** A rulebook in which one thing was changed. */
export interface Mutant {
  /** The table whose rules were changed; none where it was what is said of callers. */
  readonly table?: string
  /** What was changed, in words; the same for the same rulebook every time. */
  readonly change: string
  /** The action whose grant or stamp was changed. */
  readonly action?: Action
  readonly rulebook: Rulebook
}

/** A thing with one part of it changed, and the change in words. */
interface Variant<T> {
  readonly text: string
  readonly action?: Action
  readonly of: T
}

/**
 * Changes one thing in a rulebook at a time, in every way that a slip of the hand would: a condition dropped, a grant
 * opened wider or forgotten, a deny, a stamp or a check forgotten, a field added to a list or left out.
 *
 * @example mutantsOf(rules).map(({ change }) => change) // ['members: tie self always holds', …]
 */
export function mutantsOf(rulebook: Rulebook): readonly Mutant[] {
  // One thing in rules that were checked is another: that this would not pass is not what has to be noticed.
  return everyMutant(rulebook).map((mutant) => ({ ...mutant, rulebook: noteChecked(mutant.rulebook) }))
}

function everyMutant(rulebook: Rulebook): readonly Mutant[] {
  const ofTables = Object.keys(rulebook.model.tables).flatMap((table) =>
    rulesVariants(rulebook, table).map(({ text, action, of }) => ({
      table,
      change: `${table}: ${text}`,
      ...(action !== undefined && { action }),
      rulebook: { ...rulebook, tables: { ...rulebook.tables, [table]: of } },
    })),
  )
  return [...ofTables, ...callerMutants(rulebook)]
}

/** What is said of callers: the roles that go with others, and where further roles are looked up. */
function callerMutants(rulebook: Rulebook): readonly Mutant[] {
  const { caller } = rulebook
  const { implies, record } = caller
  const changed = (change: string, shape: Partial<typeof caller>): Mutant => ({
    change: `callers: ${change}`,
    rulebook: { ...rulebook, caller: { ...caller, ...shape } },
  })
  const implied = Object.entries(implies).flatMap(([role, roles]) =>
    roles.map((each, at) =>
      changed(`${role} is not ${each} as well`, { implies: { ...implies, [role]: roles.toSpliced(at, 1) } }),
    ),
  )
  if (!record) return implied
  const without = { ...rulebook, caller: omit(caller, 'record') }
  return [...implied, { change: `callers: roles are not looked up in ${record.table}`, rulebook: without }]
}

function rulesVariants(rulebook: Rulebook, table: string): readonly Variant<TableRules>[] {
  const rules = rulesOf(rulebook, table)
  return [
    ...tieVariants(rules),
    ...Object.entries(rules.grants).flatMap(([action, grants]) =>
      grants.flatMap((grant, at) =>
        grantVariants(rulebook, table, action, grant).map(({ text, of }) => {
          const place = grants.length > 1 ? `${action} grant ${at + 1}` : `${action} grant`
          const changed = of === undefined ? grants.filter((each) => each !== grant) : grants.with(at, of)
          return { text: `${place} ${text}`, action, of: { ...rules, grants: { ...rules.grants, [action]: changed } } }
        }),
      ),
    ),
    ...denyVariants(rules),
    ...stampVariants(rules),
    ...checkVariants(rules),
    ...barVariants(rules),
  ]
}

function tieVariants(rules: TableRules): readonly Variant<TableRules>[] {
  return Object.entries(rules.ties).flatMap(([name, tie]) => {
    const variants: readonly Variant<Condition>[] = [
      { text: 'always holds', of: always },
      { text: 'never holds', of: never },
      ...conditionVariants(tie),
    ]
    return variants.map(({ text, of }) => ({
      text: `tie ${name} ${text}`,
      of: { ...rules, ties: { ...rules.ties, [name]: of } },
    }))
  })
}

/** A condition with one part dropped, at any depth. */
function conditionVariants(condition: Condition): readonly Variant<Condition>[] {
  const without = (part: Condition, of: Condition) => ({ text: `without “${print(part)}”`, of })
  const changed = partsOf(condition).flatMap((part, at) =>
    conditionVariants(part).map(({ text, of }) => ({
      text,
      of: rewrite(condition, { part: (each, place) => (place === at ? of : each) }),
    })),
  )
  if (condition.kind === 'all' || condition.kind === 'any') {
    const { of } = condition
    const dropped = of.length < 2 ? [] : of.map((part, at) => without(part, { ...condition, of: of.toSpliced(at, 1) }))
    return [...dropped, ...changed]
  }
  if (condition.kind === 'some' && !condition.one && condition.where.kind === 'compare') {
    return [without(condition.where, { ...condition, where: always }), ...changed]
  }
  if (condition.kind !== 'role' || condition.anyOf.length < 2) return changed
  return condition.anyOf.map((role, at) => ({
    text: `without role ${role}`,
    of: { ...condition, anyOf: condition.anyOf.toSpliced(at, 1) },
  }))
}

const signedIn: Condition = { kind: 'signedIn' }

/** A grant changed; nothing where it is forgotten. */
function grantVariants(
  rulebook: Rulebook,
  table: string,
  action: Action,
  grant: Grant,
): readonly Variant<Grant | undefined>[] {
  const { to, when, after } = grant
  return [
    ...(to.length === 1 ? [{ text: `to ${whoName(to[0] as never)} forgotten`, of: undefined }] : []),
    ...to.flatMap((who, at) => [
      ...(to.length > 1 ? [{ text: `without ${whoName(who)}`, of: { ...grant, to: to.toSpliced(at, 1) } }] : []),
      ...wider(who).map(({ text, of }) => ({
        text: `to ${whoName(who)} ${text}`,
        of: { ...grant, to: to.with(at, of) },
      })),
      ...(typeof who === 'string' ? [] : conditionVariants(who)).map(({ text, of }) => ({
        text: `to ${whoName(who)} ${text}`,
        of: { ...grant, to: to.with(at, of) },
      })),
    ]),
    ...(when
      ? [
          { text: `without its condition “${print(when)}”`, of: omit(grant, 'when') },
          ...conditionVariants(when).map(({ text, of }) => ({ text, of: { ...grant, when: of } })),
        ]
      : []),
    ...(after ? [{ text: 'without its condition afterwards', of: omit(grant, 'after') }] : []),
    ...(grant.gone ? [{ text: 'not for what is gone', of: omit(grant, 'gone') }] : []),
    ...fieldVariants(rulebook, table, action, grant),
  ]
}

/** To whom else something could have been granted by mistake. */
function wider(who: Grant['to'][number]): readonly Variant<Condition>[] {
  if (typeof who !== 'string' && who.kind === 'always') return []
  if (typeof who !== 'string' && who.kind === 'signedIn') return [{ text: 'opened to anyone', of: always }]
  return [{ text: 'opened to whoever is signed in', of: signedIn }]
}

function fieldVariants(rulebook: Rulebook, table: string, action: Action, grant: Grant): readonly Variant<Grant>[] {
  const { fields } = grant
  if (!fields) return []
  const { key, fields: all } = tableOf(rulebook.model, table)
  const isUseless = (name: string) => (isRead(action) ? key.includes(name) : isFixed(rulebook, table, action, name))
  const missing = Object.keys(all).filter((name) => !fields.includes(name) && !isUseless(name))
  const who = grant.to.map(whoName).join(', ')
  return [
    ...missing.map((name) => ({ text: `to ${who} also for ${name}`, of: { ...grant, fields: [...fields, name] } })),
    ...fields.map((name, at) => ({
      text: `to ${who} not for ${name}`,
      of: { ...grant, fields: fields.toSpliced(at, 1) },
    })),
  ]
}

function denyVariants(rules: TableRules): readonly Variant<TableRules>[] {
  return Object.entries(rules.denies).flatMap(([name, deny]) => {
    const changed = (text: string, of: Partial<typeof deny>) => ({
      text: `deny ${name} ${text}`,
      of: { ...rules, denies: { ...rules.denies, [name]: { ...deny, ...of } } },
    })
    return [
      { text: `deny ${name} forgotten`, of: { ...rules, denies: omit(rules.denies, name) } },
      ...(deny.on.length > 1 ? deny.on.map((on, at) => changed(`not on ${on}`, { on: deny.on.toSpliced(at, 1) })) : []),
      ...deny.except.map((who, at) => changed(`also for ${whoName(who)}`, { except: deny.except.toSpliced(at, 1) })),
      ...conditionVariants(deny.when).map(({ text, of }) => changed(text, { when: of })),
    ]
  })
}

function stampVariants(rules: TableRules): readonly Variant<TableRules>[] {
  return Object.entries(rules.stamps).flatMap(([action, stamps]) =>
    Object.keys(stamps).map((field) => {
      const others = omit(stamps, field)
      return {
        text: `${action} does not set ${field}`,
        action,
        of: { ...rules, stamps: { ...rules.stamps, [action]: others } },
      }
    }),
  )
}

function checkVariants(rules: TableRules): readonly Variant<TableRules>[] {
  const { checks } = rules
  const ofFields = Object.entries(checks.fields).flatMap(([field, check]) =>
    (Object.keys(check) as (keyof typeof check)[]).map((part) => {
      const others = omit(check, part)
      return {
        text: `check ${part} of ${field} forgotten`,
        of: { ...rules, checks: { ...checks, fields: { ...checks.fields, [field]: others } } },
      }
    }),
  )
  const ofRecords = Object.entries(checks.records).flatMap(([name, check]) => {
    const others = omit(checks.records, name)
    return [
      { text: `check ${name} forgotten`, of: { ...rules, checks: { ...checks, records: others } } },
      ...conditionVariants(check.that).map(({ text, of }) => ({
        text: `check ${name} ${text}`,
        of: { ...rules, checks: { ...checks, records: { ...checks.records, [name]: { ...check, that: of } } } },
      })),
    ]
  })
  return [...ofFields, ...ofRecords]
}

/** What bars records from everybody. */
function barVariants(rules: TableRules): readonly Variant<TableRules>[] {
  const { fence, gone } = rules
  return [
    ...(fence
      ? [
          { text: 'fence forgotten', of: omit(rules, 'fence') },
          ...conditionVariants(fence).map(({ text, of }) => ({ text: `fence ${text}`, of: { ...rules, fence: of } })),
        ]
      : []),
    ...(gone ? [{ text: 'nothing is gone', of: { ...rules, gone: { ...gone, when: never } } }] : []),
    ...(gone?.onDelete ? [{ text: 'a delete removes', of: { ...rules, gone: omit(gone, 'onDelete') } }] : []),
  ]
}
