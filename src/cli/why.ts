import chalk from 'chalk'
import { contains, operandsOf } from '../condition/index.js'
import type { GrantVerdict, MemoryRecord, PartVerdict, Verdict } from '../decide/index.js'
import { fieldOf, type KeyValues, printKey, readKey, tableOf } from '../model/index.js'
import { ACTIONS, type Rulebook, rulesOf } from '../rules/index.js'
import { UsageError } from './config.js'
import type { Workbench } from './workbench.js'

/** Why a caller may or may not do something to a record. */
export interface Explanation {
  readonly caller: string
  readonly key: string
  readonly title?: string
  readonly verdict: Verdict
  /** Why the record cannot be seen, where that is what stands in the way. */
  readonly sight?: Verdict
  /** The record's values that the ties of its table look at. */
  readonly values: MemoryRecord
  /** The caller's attributes and roles. */
  readonly attributes: Readonly<Record<string, unknown>>
}

/**
 * Finds out why.
 *
 * @throws {UsageError} where there is no such record
 */
export async function gatherWhy(
  bench: Workbench,
  asked: { readonly action: string; readonly table: string; readonly key: KeyValues; readonly caller: string },
): Promise<Explanation> {
  const { action, table, caller, key } = asked
  const { model } = bench.rulebook
  const scoped = bench.as(caller)
  const { verdict, record } = await scoped.verdict(action, table, key)
  if (!record)
    throw new UsageError(
      `There is no record ${printKey(model, table, key)} in ${table}; there is ${await someKeys(bench, table)}.`,
    )
  const isRead = ['read', 'get', 'list'].includes(action)
  const sight = verdict.seen || isRead ? undefined : (await scoped.verdict('get', table, key)).verdict
  const title = record[bench.titles[table] ?? '']
  return {
    caller,
    key: printKey(model, table, record),
    ...(title !== undefined && { title: String(title) }),
    verdict,
    ...(sight && { sight }),
    values: Object.fromEntries(fieldsLookedAt(bench, table).map((field) => [field, record[field]])),
    attributes: bench.attributes(caller),
  }
}

/**
 * Checks an action typed on the command line.
 * @throws {UsageError} where it cannot be asked about a record
 */
export function checkAction(rulebook: Rulebook, table: string, action: string): void {
  tableOf(rulebook.model, table)
  const askable = [...ACTIONS.filter((each) => each !== 'create'), ...rulesOf(rulebook, table).actions]
  if (askable.includes(action)) return
  throw new UsageError(`There is no action ${JSON.stringify(action)} on a record; there is ${askable.join(', ')}.`)
}

/**
 * Reads a key typed on the command line: `3`, or `4,7` for a key of two fields.
 * @throws {UsageError} where it has too few parts or too many
 * @throws {InputError} where a part is of the wrong type
 */
export function parseKey({ model }: Rulebook, table: string, typed: string): KeyValues {
  const { key } = tableOf(model, table)
  const parts = key.length === 1 ? [typed] : typed.split(',')
  const values = key.map((name, at) => {
    const part = parts[at]?.trim()
    return [name, fieldOf(model, table, name).type === 'integer' && part !== '' ? Number(part) : part]
  })
  if (parts.length !== key.length) {
    throw new UsageError(`A key of ${table} is ${key.join(',')}, separated by commas; ${JSON.stringify(typed)} is not.`)
  }
  return readKey(model, table, Object.fromEntries(values))
}

/** A few keys that do exist: this is the developer's own database. */
async function someKeys({ store, rulebook }: Workbench, table: string): Promise<string> {
  const { key } = tableOf(rulebook.model, table)
  const columns = key.map(store.dialect.identifier).join(', ')
  const { rows } = await store.query(
    `SELECT ${columns} FROM ${store.dialect.identifier(table)} ORDER BY ${columns}`,
    [],
  )
  const keys = rows.map((row) => printKey(rulebook.model, table, row))
  return keys.length > 12 ? `${keys.slice(0, 10).join('; ')}; … ${keys.at(-1)}` : keys.join('; ') || 'none'
}

function fieldsLookedAt({ rulebook }: Workbench, table: string): readonly string[] {
  const rules = rulesOf(rulebook, table)
  const conditions = [
    ...Object.values(rules.ties),
    ...Object.values(rules.denies).map(({ when }) => when),
    ...Object.values(rules.grants).flatMap((grants) => grants.flatMap(({ when }) => when ?? [])),
  ]
  const used = (field: string) => (condition: (typeof conditions)[number]) =>
    contains(condition, (part) =>
      operandsOf(part).some((each) => each.kind === 'field' && each.level === 0 && each.name === field),
    )
  return Object.keys(tableOf(rulebook.model, table).fields).filter((field) => conditions.some(used(field)))
}

/** Writes the explanation for a terminal. */
export function printWhy({ caller, key, title, verdict, sight, values, attributes }: Explanation): string {
  const { action, table, allowed, status, message } = verdict
  const subject = `${table} ${key}${title ? ` “${title}”` : ''}`
  const answer = allowed
    ? chalk.green.bold(`Yes: ${caller} may ${action} ${subject}.`)
    : chalk.red.bold(`No: ${caller} may not ${action} ${subject}.`)
  const known = Object.entries(attributes).map(([name, value]) => `caller.${name} = ${printValue(value)}`)
  const shown = Object.entries(values).map(([field, value]) => `row.${field} = ${printValue(value)}`)
  return [
    answer,
    ...(allowed ? [] : [`The caller is told (${status}): ${message}`]),
    '',
    ...(known.length > 0 ? [`The caller has ${known.join(', ')}`] : []),
    ...(shown.length > 0 ? [`The record has ${shown.join(', ')}`, ''] : []),
    ...(sight ? [`${caller} cannot see it, and what cannot be seen cannot be changed. Seeing it takes one of`] : []),
    ...(sight ? printGrants(sight.grants) : []),
    ...(sight ? [''] : []),
    ...(verdict.grants.length > 0 ? [`To ${action} takes one of`] : [`Nobody was granted to ${action}.`]),
    ...printGrants(verdict.grants),
    ...printDenies(verdict),
  ].join('\n')
}

function printGrants(grants: readonly GrantVerdict[]): readonly string[] {
  const width = Math.max(0, ...grants.flatMap(({ to }) => to.map(({ who }) => who.length)))
  return grants.flatMap(({ to, when, fields }) => [
    ...to.map(
      (part) =>
        `  ${mark(part.holds && (when?.holds ?? true))} ${part.who.padEnd(width)}  ${describe(part, when, fields)}`,
    ),
  ])
}

function describe({ who, condition, holds }: PartVerdict, when?: PartVerdict, fields?: readonly string[]): string {
  const own =
    condition === who || condition === 'always' ? [] : [`${condition}${when ? (holds ? ' (so)' : ' (not so)') : ''}`]
  const further = when ? [`and ${when.condition}${when.holds ? ' (so)' : ' (not so)'}`] : []
  const scope = fields && fields.length > 0 ? [chalk.dim(`for ${fields.join(', ')}`)] : []
  return [...own, ...further, ...scope].join(' ')
}

function printDenies({ denies }: Verdict): readonly string[] {
  if (denies.length === 0) return []
  const lines = denies.map(
    ({ name, condition, holds, message }) =>
      `  ${holds ? chalk.red('holds        ') : 'does not hold'} ${name}  ${condition}: “${message}”`,
  )
  return ['', 'What overrules every grant', ...lines]
}

const mark = (holds: boolean): string => (holds ? chalk.green('yes') : chalk.red('no '))

function printValue(value: unknown): string {
  if (value === null || value === undefined) return 'missing'
  if (value instanceof Date) return value.toISOString()
  if (Array.isArray(value)) return `(${value.map(printValue).join(', ')})`
  return typeof value === 'string' ? `'${value}'` : String(value)
}
