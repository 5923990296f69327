import { type Command } from 'commander'
import { installTriggers, removeTriggers, TRIGGERS_THERE, type TriggerState, triggerStates } from '../live/index.js'
import type { SqlStore } from '../sql/index.js'
import { loadConfig, UsageError } from './config.js'
import { addCommand, type Options, show } from './program.js'
import type { Shell } from './shell.js'
import { drawTable } from './table.js'

interface TriggersOptions extends Options {
  readonly print: boolean
}

/** `pachter triggers install`, `pachter triggers remove` and `pachter triggers show` */
export function addTriggers(program: Command, shell: Shell): void {
  const triggers = program
    .command('triggers')
    .description('what tells live lists of changes made outside the application, on PostgreSQL')
  const doing = {
    install: 'puts triggers on the tables of the model, or puts them there anew',
    remove: 'takes them away',
  }
  for (const [name, statementsFor] of [
    ['install', installTriggers],
    ['remove', removeTriggers],
  ] as const) {
    addCommand(triggers, name, doing[name])
      .option('--print', 'prints the statements instead of running them', false)
      .action(async ({ print, ...options }: TriggersOptions) => {
        const { rules, store: open } = await loadConfig(options.config)
        const statements = statementsFor(rules.model)
        if (print) return show(shell, options, statements, (all) => all.map((each) => `${each};`).join('\n'))
        await onPostgresql(open, async (store) => {
          await store.transaction(async ({ query }) => {
            for (const statement of statements) await query(statement, [])
          })
          show(shell, options, await statesIn(store, rules.model), printStates)
        })
      })
  }
  addCommand(triggers, 'show', 'which tables have them').action(async (options: Options) => {
    const { rules, store: open } = await loadConfig(options.config)
    await onPostgresql(open, async (store) => show(shell, options, await statesIn(store, rules.model), printStates))
  })
}

type Model = Parameters<typeof installTriggers>[0]

async function statesIn(store: SqlStore, model: Model): Promise<readonly TriggerState[]> {
  const { rows } = await store.query(TRIGGERS_THERE, [])
  return triggerStates(model, rows as never)
}

async function onPostgresql(
  open: (() => SqlStore | Promise<SqlStore>) | undefined,
  work: (store: SqlStore) => Promise<void>,
): Promise<void> {
  if (!open) throw new UsageError('The configuration has no store; triggers are put into a database.')
  const store = await open()
  try {
    if (store.dialect.name !== 'postgresql') {
      throw new UsageError(`The store is ${store.dialect.name}; triggers that notify are for PostgreSQL.`)
    }
    await work(store)
  } finally {
    await store.close?.()
  }
}

const printStates = (states: readonly TriggerState[]): string =>
  drawTable(
    ['table', 'triggers'],
    states.map(({ table, state }) => [table, state]),
  )
