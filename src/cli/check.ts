import { type Shell } from './shell.js'
import { readFile, writeFile } from 'node:fs/promises'
import { basename, dirname, resolve } from 'node:path'
import chalk from 'chalk'
import { type Command, Option } from 'commander'
import {
  type CheckReport,
  type CheckResult,
  coverage,
  expectationText,
  type Explanation,
  type Failure,
  listKeys,
  mutantsOf,
  mutate,
  openExpectations,
  type Outcome,
  type ReadFile,
  recordExpectations,
  reportOf,
  runFile,
  seeCounts,
} from '../check/index.js'
import { type WholeConfig, loadWhole, UsageError, withWorkbench } from './config.js'
import { failureText, junitOf, placeText, tapOf } from './formats.js'
import { printCoverage, printMutation } from './coverage.js'
import { withProgress } from './progress.js'
import { addCommand, type Options, show } from './program.js'
import { printDenies, printGrants } from './why.js'

/** The file of expectations, where the configuration names none. */
const FILE = 'expectations.yaml'

const PRINTERS = { text: printAll, tap: tapOf, junit: junitOf } as const

interface CheckCommand extends Options {
  readonly record: boolean
  readonly format: keyof typeof PRINTERS
  readonly coverage: boolean
  readonly mutate: boolean
  readonly report?: string
}

/** `pachter check` */
export function addCheck(program: Command, shell: Shell): void {
  addCommand(program, 'check [file]', 'holds what is expected of each caller against what comes out')
    .option('--record', 'writes the file from what is true now, for you to review', false)
    .addOption(new Option('--format <format>', 'how to print').choices(Object.keys(PRINTERS)).default('text'))
    .option('--coverage', 'also says what in the rules was never decisive', false)
    .option('--mutate', 'also changes one thing in the rules at a time, and says which change nobody noticed', false)
    .option('--report <file>', 'also writes all of it to a page that stands alone, in HTML')
    .action(async (given: string | undefined, options: CheckCommand) => {
      const config = await loadWhole(options.config)
      const path = given ?? resolve(dirname(options.config), config.expectations ?? FILE)
      if (options.record) await record(shell, config, path)
      else await check(shell, config, path, options)
    })
}

async function check(shell: Shell, config: WholeConfig, path: string, options: CheckCommand): Promise<void> {
  const text = await readIfThere(path)
  if (text === undefined) {
    throw new UsageError(`There is no ${path}; write it, or have it written from what is true now: check --record.`)
  }
  const { coverage: covers, mutate: mutates, report, format } = options
  if (format !== 'text' && (covers || mutates)) throw new UsageError(`--format ${format} is about expectations alone.`)
  await withWorkbench(config, async (opened) => {
    const read = await openExpectations(opened, text, basename(path))
    const { bench, expectations } = read
    const total = expectations.all.length
    const result = await withProgress('expectations', total, (onProgress) => runFile(read, { onProgress }))
    const covered = covers || report !== undefined ? await coverage(bench, expectations.all) : undefined
    // Where something fails as it is, a change to the rules cannot be told from it.
    const mutation = (mutates && result.failed === 0) || undefined
    const all: CheckReport = {
      ...result,
      ...(covered && { coverage: covered }),
      ...(mutation && { mutation: await withMutants(read) }),
    }
    if (report !== undefined) await writeFile(report, reportOf(bench, all, await seeCounts(bench, opened.names)))
    show(shell, options, all, PRINTERS[format])
    if (mutates && result.failed > 0) shell.note('nothing was mutated, since not all expectations hold.')
    if (result.failed > 0 || (all.mutation?.survivors.length ?? 0) > 0) shell.fallShort()
  })
}

const withMutants = ({ bench, expectations }: ReadFile) =>
  withProgress('changes to the rules', mutantsOf(bench.rulebook).length, (onProgress) =>
    mutate(bench, expectations, onProgress),
  )

async function record(shell: Shell, config: WholeConfig, path: string): Promise<void> {
  const before = await readIfThere(path)
  await withWorkbench(config, async (bench) => {
    const text = await recordExpectations(bench, before, basename(path))
    if (text !== before) await writeFile(path, text)
    shell.print(
      text === before
        ? `${path} states what is true already.`
        : `${path} was ${before === undefined ? 'written' : 'brought up to date'}. It states what is true now, not what should be: review it.`,
    )
  })
}

async function readIfThere(path: string): Promise<string | undefined> {
  try {
    return await readFile(path, 'utf8')
  } catch (error) {
    if ((error as { code?: unknown }).code === 'ENOENT') return undefined
    throw error
  }
}

function printAll(report: CheckReport): string {
  const { coverage: covered, mutation } = report
  return [
    printCheck(report),
    ...(covered ? ['', printCoverage(covered)] : []),
    ...(mutation ? ['', printMutation(mutation)] : []),
  ].join('\n')
}

/** Writes what came of a check for a terminal: each failure with its reasons. */
export function printCheck({ file, outcomes, failed }: CheckResult): string {
  const failing = outcomes.filter(({ failures }) => failures.length > 0)
  const summary =
    failed === 0
      ? chalk.green(`All ${outcomes.length} expectations hold.`)
      : chalk.red(`${failed} of ${outcomes.length} expectations do not hold.`)
  // What fails alike for several callers is said once.
  const alike = new Map<string, Outcome[]>()
  for (const outcome of failing) {
    const name = JSON.stringify([
      expectationText({ ...outcome.expectation, caller: '' }),
      printFailures(outcome.failures),
    ])
    alike.set(name, [...(alike.get(name) ?? []), outcome])
  }
  return [...[...alike.values()].flatMap((outcomes) => [...printFailing(file, outcomes), '']), summary].join('\n')
}

/** So many differences of one expectation are printed. */
const PRINTED = 10

function printFailing(file: string, [outcome, ...others]: readonly Outcome[]): readonly string[] {
  if (!outcome) return []
  const { expectation, failures } = outcome
  return [
    `${chalk.red('✗')} ${chalk.bold(expectationText(expectation))}  ${chalk.dim(placeText(file, outcome))}`,
    ...printFailures(failures),
    ...(others.length > 0 ? [`    the same for ${others.map((each) => each.expectation.caller).join(', ')}`] : []),
  ]
}

/** The differences of an expectation, those that have the same reasons together. */
function printFailures(failures: readonly Failure[]): readonly string[] {
  const alike = new Map<string, Failure[]>()
  for (const failure of failures) {
    const name = JSON.stringify([failure.text, failure.why ? printReasons(failure.why) : undefined])
    alike.set(name, [...(alike.get(name) ?? []), failure])
  }
  const groups = [...alike.values()]
  const left = groups.slice(PRINTED).flat().length
  return [
    ...groups.slice(0, PRINTED).flatMap(([first, ...others]) => {
      if (!first) return []
      const keys = others.flatMap(({ key }) => (key === undefined ? [] : [key]))
      return [
        `    ${failureText(first)}`,
        ...(first.why ? printReasons(first.why).map((line) => `    ${line}`) : []),
        ...(keys.length > 0 ? [`      the same for ${listKeys(keys)}`] : []),
      ]
    }),
    ...(left > 0 ? [`    and ${left} more`] : []),
  ]
}

/** What decided: what holds, where something does; else what came closest. */
function printReasons({ allowed, action, table, grants, denies, sight, fixed }: Explanation): readonly string[] {
  const struck = denies.filter(({ holds }) => holds)
  const holding = grants.filter(({ holds, covers }) => holds && covers)
  if (allowed) return printGrants(holding)
  if (sight)
    return [
      '  cannot be seen:',
      ...printGrants(sight.grants.filter(({ closest }) => closest)),
      ...printDenies(sight.denies.filter(({ holds }) => holds)),
    ]
  if (grants.length === 0) return [`  nobody was granted to ${action} ${table}`]
  if (fixed !== undefined) return [`  ${fixed}`]
  if (struck.length > 0) return printDenies(struck).slice(2)
  return printGrants(grants.filter(({ closest }) => closest))
}
