import { shorten } from './table.js'
import { type Shell } from './shell.js'
import chalk from 'chalk'
import type { Command } from 'commander'
import {
  type DenyReason,
  explain,
  type Explanation,
  type GrantReason,
  type PartReason,
  wholeKey,
  writeValue,
} from '../check/index.js'
import { ACTIONS, isRead, type Rulebook, rulesOf } from '../rules/index.js'
import { fieldOf, tableOf } from '../model/index.js'
import { loadWhole, oneCaller, UsageError, withWorkbench } from './config.js'
import { addCommand, collect, type Options, show } from './program.js'

/** `pachter why` */
export function addWhy(program: Command, shell: Shell): void {
  addCommand(
    program,
    'why <action> <table> <key> [field]',
    'why a caller may or may not do something to a record, or see or change a field of it',
  )
    .option('--as <caller>', 'the caller', collect, [])
    .action(
      async (
        action: string,
        table: string,
        key: string,
        field: string | undefined,
        options: Options & { readonly as: readonly string[] },
      ) => {
        const config = await loadWhole(options.config)
        const caller = oneCaller(config, options.as)
        checkAction(config.rules, table, action)
        if (field !== undefined) fieldOf(config.rules.model, table, field)
        await withWorkbench(config, async (bench) => {
          const whole = await wholeKey(bench, table, key)
          const question = { caller, action, table, key: whole, ...(field !== undefined && { field }) }
          show(shell, options, await explain(bench, question), (why) => shorten(printWhy(why)))
        })
      },
    )
}

/**
 * Checks an action typed on the command line.
 * @throws {UsageError} where it cannot be asked about a record
 */
function checkAction(rulebook: Rulebook, table: string, action: string): void {
  tableOf(rulebook.model, table)
  const askable = [...ACTIONS.filter((each) => each !== 'create'), ...rulesOf(rulebook, table).actions]
  if (askable.includes(action)) return
  throw new UsageError(`There is no action ${JSON.stringify(action)} on a record; known: ${askable.join(', ')}.`)
}

/** Writes an explanation for a terminal. */
export function printWhy(why: Explanation): string {
  const { caller, action, field, allowed, status, message, sight, fixed, attributes, record } = why
  const known = Object.entries(attributes).map(([name, value]) => `caller.${name} = ${writeValue(value)}`)
  const shown = Object.entries(record).map(([name, value]) => `row.${name} = ${writeValue(value)}`)
  const what = field === undefined ? `To ${action}` : `${isRead(action) ? 'To see' : `To ${action}`} ${field}`
  const told = allowed || (field !== undefined && status === 200) ? [] : [`The caller is told (${status}): ${message}`]
  return [
    headline(why),
    ...told,
    '',
    ...(known.length > 0 ? [`The caller has ${known.join(', ')}`] : []),
    ...(shown.length > 0 ? [`The record has ${shown.join(', ')}`] : []),
    '',
    ...(sight
      ? [
          `${caller} cannot see it, and what cannot be seen cannot be changed. Seeing it takes one of`,
          ...printGrants(sight.grants),
          ...printDenies(sight.denies),
          '',
        ]
      : []),
    ...(fixed === undefined ? [] : [`Nobody may set ${field}: ${fixed}.`, '']),
    ...(why.grants.length > 0 ? [`${what} takes one of`] : [`Nobody was granted to ${action}.`]),
    ...printGrants(why.grants),
    ...printDenies(why.denies),
  ].join('\n')
}

function headline({ caller, action, table, key, title, field, allowed }: Explanation): string {
  const subject = `${table} ${key}${title ? ` “${title}”` : ''}`
  const answer = allowed ? chalk.green.bold('Yes') : chalk.red.bold('No')
  const verb = allowed ? 'may' : 'may not'
  if (field === undefined) return `${answer}: ${caller} ${verb} ${action} ${subject}.`
  return `${answer}: ${caller} ${verb} ${isRead(action) ? 'see' : action} ${field} of ${subject}.`
}

/** Those that hold first, then those that came closest; those that do not cover the field asked about come last. */
export function printGrants(grants: readonly GrantReason[]): readonly string[] {
  const order = (grant: GrantReason) => (grant.covers ? grant.lacking : 1_000 + grant.lacking)
  const sorted = [...grants].sort((left, right) => order(left) - order(right))
  const width = Math.max(0, ...grants.flatMap(({ to }) => to.map(({ who }) => who.length)))
  return sorted.flatMap((grant) => {
    const parts = [...grant.to]
      .filter(({ holds }) => holds || !grant.holds)
      .sort((left, right) => left.lacking - right.lacking)
    return parts.flatMap((part) => printPart(part, grant, width))
  })
}

function printPart(part: PartReason, { when, fields, covers, closest, holds }: GrantReason, width: number): string[] {
  const own = part.condition === part.who || part.condition === 'always' ? [] : [part.condition]
  const further = when ? [`${own.length > 0 ? 'and ' : 'where '}${when.condition}`] : []
  const scope = fields && fields.length > 0 ? [chalk.dim(`for ${fields.join(', ')}`)] : []
  const open = holds && part.holds
  const mark = !covers ? chalk.dim('(no)') : open ? chalk.green('yes ') : chalk.red('no  ')
  const failing = [...(part.holds ? [] : [part]), ...(when && !when.holds ? [when] : [])]
  const telling = open ? [part, ...(when ? [when] : [])] : failing
  const evidence = covers ? [...new Set(telling.flatMap((each) => each.evidence))] : ['does not cover the field']
  const indent = ' '.repeat(width + 8)
  const word = !covers ? '' : open ? 'since ' : 'but '
  const lines = evidence.map((each, at) => {
    const line = `${at === 0 ? word : ' '.repeat(word.length)}${each}`
    return `${indent}${covers && !open && closest ? line : chalk.dim(line)}`
  })
  return [`  ${mark} ${part.who.padEnd(width)} ${[...own, ...further, ...scope].join(' ')}`.trimEnd(), ...lines]
}

/** Writes denies, those that struck first. */
export function printDenies(denies: readonly DenyReason[]): readonly string[] {
  if (denies.length === 0) return []
  const lines = [...denies]
    .sort((left, right) => Number(right.holds) - Number(left.holds))
    .flatMap(({ name, condition, holds, message, evidence, except }) => [
      `  ${holds ? chalk.red('stops it') : chalk.dim('not met ')} ${name}: ${condition}` +
        `${except.length > 0 ? `, except ${except.join(', ')}` : ''}, “${message}”`,
      ...evidence.map((each) => `           ${chalk.dim(each)}`),
    ])
  return ['', 'What overrules every grant', ...lines]
}
