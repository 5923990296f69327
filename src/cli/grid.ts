import chalk from 'chalk'
import { print, printOperand } from '../condition/index.js'
import { whoName } from '../decide/index.js'
import { tableOf } from '../model/index.js'
import { type Action, ACTIONS, type Grant, type Rulebook, rulesOf, stampsFor, type TableRules } from '../rules/index.js'
import { drawTable } from './table.js'

/** Who may do what in one table, as data. */
export interface TableGrid {
  readonly table: string
  /** For each tie, role or other grantee, what it opens, by action. */
  readonly who: readonly { readonly who: string; readonly may: Readonly<Partial<Record<Action, readonly string[]>>> }[]
  readonly ties: Readonly<Record<string, string>>
  readonly denies: readonly { readonly name: string; readonly text: string; readonly message: string }[]
  readonly stamps: Readonly<Record<'create' | 'update', Readonly<Record<string, string>>>>
}

/** Gathers who may do what, for one table or for all. */
export function gatherGrid(rulebook: Rulebook, table?: string): readonly TableGrid[] {
  if (table !== undefined) tableOf(rulebook.model, table)
  return (table === undefined ? Object.keys(rulebook.model.tables) : [table]).map((name) => {
    const rules = rulesOf(rulebook, name)
    return {
      table: name,
      who: whoRows(rules),
      ties: mapValues(rules.ties, print),
      denies: Object.entries(rules.denies).map(([deny, { on, when, except, message }]) => ({
        name: deny,
        text:
          `no ${on.join(', no ')} where ${print(when)}` +
          (except.length > 0 ? `, except ${except.map(whoName).join(', ')}` : ''),
        message,
      })),
      stamps: {
        create: mapValues(stampsFor(rules, 'create'), (operand) => printOperand(operand)),
        update: mapValues(stampsFor(rules, 'update'), (operand) => printOperand(operand)),
      },
    }
  })
}

function whoRows({ grants, ties }: TableRules): TableGrid['who'] {
  const rows = new Map<string, Partial<Record<Action, string[]>>>(Object.keys(ties).map((tie) => [tie, {}]))
  for (const action of ACTIONS) {
    for (const grant of grants[action] ?? []) {
      for (const who of grant.to.map(whoName)) {
        const row = rows.get(who) ?? {}
        rows.set(who, { ...row, [action]: [...(row[action] ?? []), describe(grant)] })
      }
    }
  }
  return [...rows].filter(([, may]) => Object.keys(may).length > 0).map(([who, may]) => ({ who, may }))
}

function describe({ fields, when, after }: Grant): string {
  const what = fields ? fields.join(', ') : 'yes'
  return what + (when ? ` if ${print(when)}` : '') + (after ? ` so that ${print(after)}` : '')
}

/** Writes the grid for a terminal. */
export function printGrid(grids: readonly TableGrid[]): string {
  return grids.map(printTable).join('\n\n\n')
}

function printTable({ table, who, ties, denies, stamps }: TableGrid): string {
  const title = chalk.bold.underline(table)
  if (who.length === 0) return `${title}\n\nClosed: nobody may do anything.`
  const actions = ACTIONS.filter((action) => who.some(({ may }) => may[action]))
  const rows = who.map(({ who: name, may }) => [
    name,
    ...actions.map((action) => (may[action] ? may[action].join('\n') : chalk.dim('·'))),
  ])
  const notes = [
    ...Object.entries(ties).map(([name, text]) => `${chalk.bold(name)} means ${text}`),
    ...denies.map(({ text, message }) => `${chalk.red(text)}: “${message}”`),
    ...(['create', 'update'] as const).flatMap((action) => {
      const set = Object.entries(stamps[action]).map(([field, value]) => `${field} to ${value}`)
      return set.length > 0 ? [`On ${action} the server sets ${set.join(', ')}`] : []
    }),
  ]
  return [title, '', drawTable(['who may', ...actions], rows), ...(notes.length > 0 ? ['', ...notes] : [])].join('\n')
}

const mapValues = <A>(from: Readonly<Record<string, A>>, change: (value: A) => string): Record<string, string> =>
  Object.fromEntries(Object.entries(from).map(([key, value]) => [key, change(value)]))
