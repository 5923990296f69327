import { isClosed } from '../decide/index.js'
import { tableOf } from '../model/index.js'
import { assertAction, checkCaller, permission, type Rulebook, rulesOf, specialise } from '../rules/index.js'
import { type Dialect, filterStatement, mariadb, postgresql, sqlite } from '../sql/index.js'

const DIALECTS: readonly Dialect[] = [postgresql, sqlite, mariadb]

/** The filter of an action on one table for one caller, as each database gets it. */
export interface EmittedFilter {
  readonly table: string
  readonly action: string
  readonly caller: string
  /** Whether the caller is refused without a query. */
  readonly closed: boolean
  readonly filters: readonly { readonly dialect: string; readonly where: string; readonly values: readonly unknown[] }[]
}

/** Gathers the filters of an action, for one table or all, and for each caller. */
export function gatherFilters(
  rulebook: Rulebook,
  callers: Readonly<Record<string, unknown>>,
  asked: { readonly action: string; readonly table: string | undefined },
): readonly EmittedFilter[] {
  const { action } = asked
  if (asked.table !== undefined) tableOf(rulebook.model, asked.table)
  const tables = asked.table === undefined ? Object.keys(rulebook.model.tables) : [asked.table]
  return tables.flatMap((table) => {
    assertAction(rulesOf(rulebook, table), table, action)
    return Object.entries(callers).map(([name, given]) => {
      const caller = checkCaller(rulebook.caller, given)
      const closed = isClosed({ rulebook, table, action, caller })
      const condition = specialise(permission(rulebook, table, action), caller)
      const filters = DIALECTS.map((dialect) => {
        const { text, bind } = filterStatement({ rulebook, dialect, form: 'gather' }, table, condition)
        return { dialect: dialect.name, where: text, values: bind({ caller, clock: () => new Date() }) }
      })
      return { table, action, caller: name, closed, filters }
    })
  })
}

/** Writes filters for a terminal, the values apart from the text. */
export function printFilters(emitted: readonly EmittedFilter[]): string {
  return emitted
    .map(({ table, action, caller, closed, filters }) => {
      const head = `-- ${caller}: ${action} ${table}${closed ? ', refused without a query' : ''}`
      const parts = filters.map(
        ({ dialect, where, values }) =>
          `-- ${dialect}\n${where}\n-- values: ${values.map(showValue).join(', ') || 'none'}`,
      )
      return [head, ...(closed ? [] : parts)].join('\n')
    })
    .join('\n\n')
}

const showValue = (value: unknown): string =>
  typeof value === 'bigint' ? String(value) : value instanceof Date ? value.toISOString() : JSON.stringify(value)
