import { type Command } from 'commander'
import {
  adviseIndexes,
  type Effort,
  type IndexAdvice,
  type IndexTried,
  type TieIndexes,
  tryIndex,
} from '../adopt/index.js'
import { chooseCallers } from '../check/index.js'
import { tableOf } from '../model/index.js'
import { COUNTED } from '../sql/index.js'
import { loadWhole, withWorkbench } from './config.js'
import { addCommand, collect, type Options, show } from './program.js'
import type { Shell } from './shell.js'
import { drawTable } from './table.js'

interface IndexesCommand extends Options {
  readonly as: readonly string[]
  readonly try: boolean
}

interface Advised {
  readonly ties: readonly Omit<TieIndexes, 'that'>[]
  readonly missing: readonly (Omit<IndexAdvice, 'serves'> & {
    readonly serves: readonly string[]
    readonly before?: Effort
    readonly after?: Effort
  })[]
}

/** `pachter indexes` */
export function addIndexes(program: Command, shell: Shell): void {
  addCommand(program, 'indexes [table]', 'the indexes that ties need to find their records, and which are missing')
    .option('--as <caller>', 'whom to look through; repeat for more, leave out for all', collect, [])
    .option('--try', 'tries each in a transaction that is taken back: its table takes no writes meanwhile', false)
    .action(async (table: string | undefined, options: IndexesCommand) => {
      const config = await loadWhole(options.config)
      if (table !== undefined) tableOf(config.rules.model, table)
      const callers = chooseCallers(Object.keys(config.callers), options.as)
      await withWorkbench(config, async (bench) => {
        const { rulebook, store } = bench
        const { ties, missing } = await adviseIndexes(store, rulebook, table)
        const tried: Advised['missing'][number][] = []
        for (const advice of missing) {
          let found: IndexTried | undefined
          for (const name of callers) found ??= await tryIndex(store, rulebook, advice, bench.caller(name), options.try)
          tried.push({
            ...advice,
            serves: advice.serves.map((each) => `${each.table} ${each.tie}`),
            ...(found && { before: found.before, ...(found.after && { after: found.after }) }),
          })
        }
        const advised = { ties: ties.map(({ that: _, ...each }) => each), missing: tried }
        show(shell, options, advised, printAdvised)
      })
    })
}

function printAdvised({ ties, missing }: Advised): string {
  const served = ties.filter(({ needs }) => needs.length > 0)
  const whole = drawTable(
    ['tie', 'finds its records by', ''],
    served.map(({ table, tie, needs, missing: lacking }) => [
      `${table} ${tie}`,
      needs.join(', '),
      lacking.length > 0 ? `missing: ${lacking.join(', ')}` : 'there',
    ]),
  )
  if (missing.length === 0) return `${whole}\n\nEvery tie has the index it needs.`
  const isTried = missing.some(({ after }) => after !== undefined)
  const effects = drawTable(
    ['index on', 'records', 'serves', 'now', ...(isTried ? ['with it'] : [])],
    missing.map(({ field, rows, serves, before, after }) => [
      field,
      rows < COUNTED ? String(rows) : `${rows} or more`,
      serves.join(', '),
      printEffort(before),
      ...(isTried ? [printEffort(after)] : []),
    ]),
  )
  return [whole, effects, missing.map(({ statement }) => `${statement};`).join('\n')].join('\n\n')
}

const printEffort = (effort: Effort | undefined): string =>
  effort === undefined
    ? ''
    : [effort.plan, ...(effort.took === undefined ? [] : [`${effort.took.toFixed(2)} ms`])].join(', ')
