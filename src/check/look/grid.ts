import { print, printOperand } from '../../condition/index.js'
import { whoName } from '../../decide/index.js'
import { tableOf } from '../../model/index.js'
import { type Action, ACTIONS, type Grant, type Rulebook, rulesOf, type TableRules } from '../../rules/index.js'

/** Who may do what in one table, as data. */
export interface TableGrid {
  readonly table: string
  /** The actions somebody is granted, in the order they are shown. */
  readonly actions: readonly Action[]
  /** For each tie, role or other grantee, what it opens, by action. */
  readonly who: readonly { readonly who: string; readonly may: Readonly<Partial<Record<Action, readonly string[]>>> }[]
  readonly ties: Readonly<Record<string, string>>
  /** What bars records from everybody, whatever is granted. */
  readonly bars: readonly string[]
  readonly denies: readonly { readonly name: string; readonly text: string; readonly message: string }[]
  /** What the server sets, by action and field. */
  readonly stamps: Readonly<Record<Action, Readonly<Record<string, string>>>>
  /** What values have to be like. */
  readonly checks: readonly string[]
  /** What may be told of hidden records, where the rules say so. */
  readonly told?: string
}

/** Gathers who may do what, for one table or for all. */
export function gatherGrid(rulebook: Rulebook, table?: string): readonly TableGrid[] {
  if (table !== undefined) tableOf(rulebook.model, table)
  return (table === undefined ? Object.keys(rulebook.model.tables) : [table]).map((name) => {
    const rules = rulesOf(rulebook, name)
    return {
      table: name,
      actions: actionsOf(rules).filter((action) => (rules.grants[action] ?? []).length > 0),
      who: whoRows(rules),
      ties: mapValues(rules.ties, print),
      bars: barsOf(rules),
      denies: Object.entries(rules.denies).map(([deny, { on, when, except, message }]) => ({
        name: deny,
        text:
          `no ${on.join(', no ')} where ${print(when)}` +
          (except.length > 0 ? `, except ${except.map(whoName).join(', ')}` : ''),
        message,
      })),
      stamps: mapValues(rules.stamps, (stamps) => mapValues(stamps, (operand) => printOperand(operand))),
      checks: describeChecks(rules),
      ...(rules.conflicts && {
        told: 'Told, also of hidden records: that a key or a value is taken, or that a reference leads nowhere',
      }),
    }
  })
}

const actionsOf = ({ actions }: TableRules): readonly Action[] => [...ACTIONS, ...actions]

function whoRows(rules: TableRules): TableGrid['who'] {
  const { grants, ties } = rules
  const rows = new Map<string, Partial<Record<Action, string[]>>>(Object.keys(ties).map((tie) => [tie, {}]))
  for (const action of actionsOf(rules)) {
    for (const grant of grants[action] ?? []) {
      for (const who of grant.to.map(whoName)) {
        const row = rows.get(who) ?? {}
        rows.set(who, { ...row, [action]: [...(row[action] ?? []), describe(grant)] })
      }
    }
  }
  return [...rows].filter(([, may]) => Object.keys(may).length > 0).map(([who, may]) => ({ who, may }))
}

function describe({ fields, when, after, gone }: Grant): string {
  const what = fields && fields.length > 0 ? fields.join(', ') : 'yes'
  const also = gone ? ', also when it is gone' : ''
  return what + (when ? ` if ${print(when)}` : '') + (after ? ` so that ${print(after)}` : '') + also
}

function barsOf({ fence, gone }: TableRules): readonly string[] {
  const set = Object.entries(gone?.onDelete ?? {}).map(([field, operand]) => `${field} to ${printOperand(operand)}`)
  return [
    ...(fence ? [`Fence: nobody does anything to a record unless ${print(fence)}`] : []),
    ...(gone ? [`Gone where ${print(gone.when)}${set.length > 0 ? `; a delete sets ${set.join(', ')}` : ''}`] : []),
  ]
}

function describeChecks({ checks }: TableRules): readonly string[] {
  const fields = Object.entries(checks.fields).map(([field, { onCreate, onUpdate, length, range, pattern }]) => {
    const parts = [
      ...(onCreate ? ['is required on create'] : []),
      ...(onUpdate ? ['never changes'] : []),
      ...(length ? [`has ${length[0]} to ${length[1]} characters or items`] : []),
      ...(range ? [`is from ${range[0]} to ${range[1]}`] : []),
      ...(pattern === undefined ? [] : [`matches ${pattern}`]),
    ]
    return `${field} ${parts.join(', ')}`
  })
  const records = Object.values(checks.records).map(
    ({ that, fields: named, message }) => `${print(that)}, or else “${named.join(', ')} ${message}”`,
  )
  return [...fields, ...records].map((each) => `Check: ${each}`)
}

const mapValues = <A, B>(from: Readonly<Record<string, A>>, change: (value: A) => B): Record<string, B> =>
  Object.fromEntries(Object.entries(from).map(([key, value]) => [key, change(value)]))
