import { type Shell } from './shell.js'
import chalk from 'chalk'
import type { Command } from 'commander'
import { parse } from 'yaml'
import {
  type Attempted,
  everyoneIn,
  type SightChange,
  takesValues,
  tryAs,
  valuesFrom,
  wholeKey,
  writeValue,
} from '../check/index.js'
import type { MemoryRecord } from '../decide/index.js'
import { type ModelData, tableOf } from '../model/index.js'
import { rulesOf } from '../rules/index.js'
import { type WholeConfig, loadWhole, oneCaller, UsageError, withWorkbench } from './config.js'
import { addCommand, collect, type Options, show } from './program.js'
import { clip, drawTable, shorten } from './table.js'

interface TryCommand extends Options {
  readonly as: readonly string[]
  readonly with?: string
}

/** `pachter try` */
export function addTry(program: Command, shell: Shell): void {
  addCommand(program, 'try <action> <table> [key]', 'what would come of a write: it is done, and taken back')
    .option('--as <caller>', 'the caller', collect, [])
    .option('--with <values>', "the values, in YAML or JSON: '{ title: First leeks }'")
    .action(async (action: string, table: string, key: string | undefined, options: TryCommand) => {
      const config = await loadWhole(options.config)
      const caller = oneCaller(config, options.as)
      const values = checkAttempt(config, action, table, key, options.with)
      const { rules } = config
      const everyone = (config.everyone ?? rules.caller.record) ? everyoneIn(rules, config.everyone) : undefined
      await withWorkbench(config, async (bench) => {
        const whole = key === undefined ? {} : { key: await wholeKey(bench, table, key) }
        const attempt = { caller, table, action, values, ...whole }
        show(shell, options, await tryAs(bench, attempt, everyone), (tried) => shorten(printTried(tried)))
      })
    })
}

/** Checks what was typed, and reads the values. */
function checkAttempt({ rules }: WholeConfig, action: string, table: string, key: string | undefined, given?: string) {
  tableOf(rules.model, table)
  const actions = ['create', 'update', 'delete', ...rulesOf(rules, table).actions]
  if (!actions.includes(action)) {
    throw new UsageError(
      `There is no action ${JSON.stringify(action)} to try in ${table}; known: ${actions.join(', ')}.`,
    )
  }
  if (action === 'create' && key !== undefined) throw new UsageError('A create has no key; its values follow --with.')
  if (action !== 'create' && key === undefined)
    throw new UsageError(`Name the record: pachter try ${action} ${table} <key>.`)
  if (given !== undefined && !takesValues(rulesOf(rules, table), action))
    throw new UsageError(`${action} takes no values.`)
  return readValues(rules.model, table, given)
}

function readValues(model: ModelData, table: string, given = '{}'): Readonly<Record<string, unknown>> {
  const wrong = (reason: string) =>
    new UsageError(`--with takes values by field, such as '{ title: First leeks }': ${reason}.`)
  let values: unknown
  try {
    values = parse(given)
  } catch (error) {
    throw wrong((error as Error).message.split('\n')[0] ?? 'it cannot be read')
  }
  if (typeof values !== 'object' || values === null || Array.isArray(values)) throw wrong('this is none')
  return valuesFrom(model, table, values as MemoryRecord)
}

/** Writes what would come of a write for a terminal. */
export function printTried({
  attempt,
  key,
  title,
  status,
  message,
  hint,
  changes,
  callers,
  everyone,
}: Attempted): string {
  const { caller, action, table } = attempt
  const subject = [table, key, title && `“${title}”`].filter(Boolean).join(' ')
  const done = status === 200
  return [
    done
      ? `${chalk.green.bold('It would be done')}: ${caller} may ${action} ${subject}.`
      : `${chalk.red.bold('It would be refused')} (${status}): ${caller} may not ${action} ${subject}.`,
    ...(message === undefined ? [] : [`The caller is told: ${message}`]),
    ...(hint === undefined ? [] : ['', hint]),
    ...(changes.length > 0 ? ['', drawTable(['field', 'before', 'after'], changes.map(changeRow))] : []),
    ...(done && changes.length === 0 && action !== 'delete' ? ['', 'Nothing would change.'] : []),
    ...(callers ? ['', ...printSight(callers, 'of the callers')] : []),
    ...(everyone ? printSight(everyone, `of the ${everyone.size} in ${everyone.table}`) : []),
    '',
    chalk.dim('Everything was taken back.'),
  ].join('\n')
}

const changeRow = ({ field, before, after }: Attempted['changes'][number]): readonly string[] => [
  field,
  ...[before, after].map((value) => clip(shorten(writeValue(value)), 48)),
]

/** So many names are written out. */
const LISTED = 8

function printSight({ before, after }: SightChange, whose: string): readonly string[] {
  const gained = after.filter((each) => !before.includes(each))
  const lost = before.filter((each) => !after.includes(each))
  const list = (names: readonly string[]) =>
    names.length > LISTED ? `${names.slice(0, LISTED).join(', ')}, …` : names.join(', ')
  return [
    `Seen by ${before.length} ${whose} before, by ${after.length} after${gained.length + lost.length === 0 ? ', the same' : ''}.`,
    ...(gained.length > 0 ? [`  ${chalk.yellow(`gain sight (${gained.length})`)}: ${list(gained)}`] : []),
    ...(lost.length > 0 ? [`  ${chalk.yellow(`lose sight (${lost.length})`)}: ${list(lost)}`] : []),
  ]
}
