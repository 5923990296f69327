#!/usr/bin/env node
import { Command, CommanderError, Option } from 'commander'
import { bigIntAsText, PachterError, tableOf } from '../model/index.js'
import { type Form, FORMS } from '../sql/index.js'
import { loadConfig } from './config.js'
import { gatherFilters, printFilters } from './emit.js'
import { gatherGrid, printGrid } from './grid.js'
import { gatherCounts, gatherSeen, printCounts, printSeen } from './see.js'
import { checkAction, gatherWhy, parseKey, printWhy } from './why.js'
import { chooseCaller, chooseCallers, withWorkbench } from './workbench.js'

const WRONG_USE = 2

interface Options {
  readonly as: readonly string[]
  readonly json: boolean
  readonly config: string
}

const program = new Command('pachter')
  .description('Who may see and do what, user by user.')
  .showSuggestionAfterError(false)
  .configureOutput({ outputError: (text, write) => write(text.replace(/^error/, 'pachter')) })
  .exitOverride()

const command = (usage: string, description: string): Command => shared(program.command(usage).description(description))

/** The options every command has. */
function shared(each: Command): Command {
  return each
    .option('--json', 'print data for programs', false)
    .option('--config <file>', 'the configuration', 'pachter.config.ts')
}

const collect = (name: string, names: readonly string[]): readonly string[] => [...names, name]

function show<T>({ json }: Options, data: T, print: (data: T) => string): void {
  process.stdout.write(`${json ? JSON.stringify(data, bigIntAsText, 2) : print(data)}\n`)
}

command('grid [table]', 'who may do what, per table').action(async (table: string | undefined, options: Options) => {
  const { rules } = await loadConfig(options.config)
  show(options, gatherGrid(rules, table), printGrid)
})

command('see [table]', 'what callers see and may do, side by side; without a table, how much of each')
  .option('--as <caller>', 'a caller to look through; repeat for more, leave out for all', collect, [])
  .action(async (table: string | undefined, options: Options) => {
    const config = await loadConfig(options.config)
    const callers = chooseCallers(config, options.as)
    if (table !== undefined) tableOf(config.rules.model, table)
    await withWorkbench(config, async (bench) => {
      if (table === undefined) show(options, await gatherCounts(bench, callers), printCounts)
      else show(options, await gatherSeen(bench, table, callers), printSeen)
    })
  })

command('why <action> <table> <key>', 'why a caller may or may not do something to a record')
  .option('--as <caller>', 'the caller', collect, [])
  .action(async (action: string, table: string, typed: string, options: Options) => {
    const config = await loadConfig(options.config)
    const caller = chooseCaller(config, options.as)
    checkAction(config.rules, table, action)
    const key = parseKey(config.rules, table, typed)
    await withWorkbench(config, async (bench) => {
      show(options, await gatherWhy(bench, { action, table, key, caller }), printWhy)
    })
  })

const emit = program.command('emit').description('what the rules become: data, or SQL')

shared(emit.command('json').description('the rulebook, as it can be stored, compared and read back')).action(
  async (options: Options) => {
    const { rules } = await loadConfig(options.config)
    process.stdout.write(`${JSON.stringify(rules, null, 2)}\n`)
  },
)

shared(emit.command('sql [table]').description('the filter each caller gets, for each database, values apart'))
  .option('--as <caller>', 'a caller; repeat for more, leave out for all', collect, [])
  .option('--action <action>', 'the action', 'list')
  .addOption(new Option('--form <form>', 'the form, instead of the one chosen').choices(FORMS))
  .action(async (table: string | undefined, options: Options & { readonly action: string; readonly form?: Form }) => {
    const config = await loadConfig(options.config)
    const callers = chooseCallers(config, options.as)
    const asked = { action: options.action, table, form: options.form }
    await withWorkbench(config, async (bench) => {
      show(options, await gatherFilters(bench, callers, asked), printFilters)
    })
  })

try {
  await program.parseAsync()
} catch (error) {
  if (error instanceof CommanderError) {
    // Commander has printed its message or the help already.
    process.exitCode = error.exitCode === 0 ? 0 : WRONG_USE
  } else if (error instanceof PachterError) {
    process.stderr.write(`pachter: ${error.message}\n`)
    process.exitCode = WRONG_USE
  } else {
    throw error
  }
}
