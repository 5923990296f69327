import { type Shell } from './shell.js'
import { type Form, FORMS } from '../guard/index.js'
import { isClosed } from '../decide/index.js'
import { describe } from '../http/index.js'
import { tableOf } from '../model/index.js'
import { Option, type Command } from 'commander'
import { chooseCallers, type Workbench, writeValue } from '../check/index.js'
import { assertAction, checkCaller, permission, rulesOf, specialise } from '../rules/index.js'
import { compilationOn, type Dialect, mariadb, NO_TRAITS, postgresql, sourceStatement, sqlite } from '../sql/index.js'
import { loadConfig, loadWhole, withWorkbench } from './config.js'
import { terminalWidth } from './table.js'
import { wrapSql } from './wrap-sql.js'
import { addCommand, collect, type Options, show } from './program.js'

const DIALECTS: readonly Dialect[] = [postgresql, sqlite, mariadb]

interface SqlOptions extends Options {
  readonly as: readonly string[]
  readonly action: string
  readonly form?: Form
  readonly dialect?: Dialect['name']
}

interface OpenApiOptions extends Options {
  readonly as?: string
  readonly base: string
  readonly title: string
}

/** `pachter emit json`, `pachter emit openapi` and `pachter emit sql` */
export function addEmit(program: Command, shell: Shell): void {
  const emit = program.command('emit').description('what the rules become: data, or SQL')
  addCommand(emit, 'json', 'the rulebook, as it can be stored, compared and read back').action(
    async (options: Options) => {
      const { rules } = await loadConfig(options.config)
      shell.print(JSON.stringify(rules, null, 2))
    },
  )
  addCommand(emit, 'openapi', 'what could be seen and sent over HTTP, as OpenAPI 3.1 has it')
    .option('--as <caller>', 'what this caller could; left out, what anyone could')
    .option('--base <path>', 'the path below which records are served', '/api')
    .option('--title <title>', 'the title of the description', 'Records')
    .action(async ({ config, as, base, title }: OpenApiOptions) => {
      const { rules, callers = {} } = await loadConfig(config)
      if (as !== undefined) chooseCallers(Object.keys(callers), [as])
      const caller = as === undefined ? undefined : checkCaller(rules.caller, callers[as])
      shell.print(JSON.stringify(describe({ rulebook: rules, base, title }, caller), null, 2))
    })
  addCommand(emit, 'sql [table]', 'the filter each caller gets, values apart')
    .option('--as <caller>', 'a caller; repeat for more, leave out for all', collect, [])
    .option('--action <action>', 'the action', 'list')
    .addOption(new Option('--form <form>', 'the form, instead of the one chosen').choices(FORMS))
    .addOption(
      new Option('--dialect <name>', 'as this database has it, instead of the configured one').choices(
        DIALECTS.map(({ name }) => name),
      ),
    )
    .action(async (table: string | undefined, options: SqlOptions) => {
      const config = await loadWhole(options.config)
      const callers = chooseCallers(Object.keys(config.callers), options.as)
      const asked = { action: options.action, table, form: options.form, dialect: options.dialect }
      await withWorkbench(config, async (bench) => {
        show(shell, options, await gatherFilters(bench, callers, asked), printFilters)
      })
    })
}

/** The filter of an action on one table for one caller, as each database gets it. */
export interface EmittedFilter {
  readonly table: string
  readonly action: string
  readonly caller: string
  /** Whether the caller is refused without a query. */
  readonly closed: boolean
  /** What the guard would choose for a list of 50 on the configured database, and from what. */
  readonly chosen?: {
    readonly dialect: string
    readonly form: Form
    readonly rows?: number
    readonly reach?: number
    readonly missing?: readonly string[]
  }
  readonly filter?: {
    readonly dialect: string
    readonly form: Form
    readonly source: string
    readonly values: readonly unknown[]
  }
}

/** What to emit: an action, for one table or all, in a form or in the one that would be chosen. */
interface Asked {
  readonly action: string
  readonly table: string | undefined
  readonly form: Form | undefined
  readonly dialect: Dialect['name'] | undefined
}

/** Gathers the filters of an action for each caller. */
export async function gatherFilters(
  bench: Workbench,
  callers: readonly string[],
  asked: Asked,
): Promise<readonly EmittedFilter[]> {
  const { rulebook } = bench
  const { action, table: only } = asked
  if (only !== undefined) tableOf(rulebook.model, only)
  const emitted: EmittedFilter[] = []
  for (const table of only === undefined ? Object.keys(rulebook.model.tables) : [only]) {
    assertAction(rulesOf(rulebook, table), table, action)
    for (const name of callers) emitted.push(await emitFor(bench, name, table, asked))
  }
  return emitted
}

async function emitFor(
  bench: Workbench,
  name: string,
  table: string,
  { action, form, dialect: other }: Asked,
): Promise<EmittedFilter> {
  const { rulebook, store } = bench
  const caller = bench.caller(name)
  const closed = isClosed({ rulebook, table, action, caller })
  if (closed) return { table, action, caller: name, closed }
  const condition = specialise(permission(rulebook, table, action), caller)
  const lists = ['list', 'read'].includes(action)
  const plan = lists ? await bench.as(name).plan(table, { limit: 50 }) : undefined
  const dialect = DIALECTS.find((each) => each.name === other) ?? store.dialect
  // One record, known by its key, is looked up on its own.
  const used = form ?? (!lists ? 'walk' : dialect === store.dialect && plan ? plan.form : 'gather')
  // Of another database, only what the model says is known.
  const isOwn = dialect === store.dialect
  const known = isOwn ? await compilationOn(store, rulebook) : { rulebook, traits: NO_TRAITS }
  const { text, bind } = sourceStatement({ ...known, dialect, form: used }, table, condition)
  const values = bind({ caller, clock: () => new Date() })
  const chosen = plan && {
    dialect: store.dialect.name,
    form: plan.form,
    ...(plan.rows !== undefined && { rows: plan.rows }),
    ...(plan.reach !== undefined && { reach: plan.reach }),
    ...(plan.missing && { missing: plan.missing }),
  }
  const filter = { dialect: dialect.name, form: used, source: text, values }
  return { table, action, caller: name, closed, filter, ...(chosen && { chosen }) }
}

/** Writes filters for a terminal, the values apart from the text. */
export function printFilters(emitted: readonly EmittedFilter[]): string {
  return emitted
    .map(({ table, action, caller, chosen, filter }) => {
      const head = `-- ${caller}: ${action} ${table}`
      if (!filter) return `${head}, refused without a query`
      const { dialect, form, source, values } = filter
      const isChosen = chosen?.dialect === dialect && chosen.form === form
      const reason = isChosen ? why(chosen) : ''
      const missing =
        isChosen && chosen.missing
          ? `\n-- no index on ${chosen.missing.join(', ')}: more has to be gone through than is reached`
          : ''
      const written = values.map(showValue).join(', ') || 'none'
      return `${head}\n-- ${dialect}: ${form}${reason}${missing}\n${wrapSql(source, terminalWidth())}\n-- values: ${written}`
    })
    .join('\n\n')
}

function why({ rows, reach }: NonNullable<EmittedFilter['chosen']>): string {
  if (rows === undefined) return ', chosen here: no OR over other tables, so the planner decides'
  const about = reach === undefined ? 'so few that every form is quick' : `about ${reach} of them reached`
  return `, chosen here for the first 50 of ${rows}: ${about}`
}

const showValue = (value: unknown): string => {
  if (value instanceof Uint8Array) return writeValue(value)
  return typeof value === 'bigint' ? String(value) : value instanceof Date ? value.toISOString() : JSON.stringify(value)
}
