import { InputError, tableOf } from '../model/index.js'
import { assertAction, permission, rulesOf, specialise } from '../rules/index.js'
import { filterStatement, type Form, type Mark, planView, type Statement } from '../sql/index.js'
import { assertForm } from './ask.js'
import { compilationOf, planned, type Session } from './session.js'

/** How a piece of SQL is to fit into a query of your own. */
export interface FilterOptions {
  /** What the table is called in that query; left out, `_0`. */
  readonly alias?: string
  /** How to write a placeholder, by its number from 1: `(n) => '$' + (n + 2)`; left out, as the database's driver has it. */
  readonly placeholder?: Mark
  /** How the records are to be found; left out, `gather`. */
  readonly form?: Form
}

/** A piece of SQL and the values for its placeholders, in their order. */
export interface SqlPiece {
  readonly text: string
  readonly values: readonly unknown[]
}

/** The condition on what the caller may read, for the WHERE of a query of one's own. */
export function filter(
  session: Session,
  table: string,
  action: 'read' | 'list' | 'get',
  { alias, placeholder: mark, form = 'gather' }: FilterOptions = {},
): SqlPiece {
  const { rulebook, caller } = session
  assertAction(rulesOf(rulebook, table), table, action)
  assertForm(form)
  assertAlias(alias)
  const wanted = action === 'read' ? 'list' : action
  const make = () =>
    filterStatement(
      { ...compilationOf(session), form },
      table,
      specialise(permission(rulebook, table, wanted), caller),
      { ...(alias !== undefined && { alias }), ...(mark && { mark }) },
    )
  return made(session, `own ${wanted} ${table} ${form} ${JSON.stringify(alias)}`, make, mark)
}

/** A subquery, in brackets, that stands for the table as the caller may see it. */
export function view(session: Session, table: string, { placeholder: mark, form = 'gather' }: FilterOptions = {}) {
  const { rulebook, caller } = session
  tableOf(rulebook.model, table)
  assertForm(form)
  const filter = () => specialise(permission(rulebook, table, 'list'), caller)
  const make = () => planView({ ...compilationOf(session), form }, table, caller, filter(), mark)
  return made(session, `view ${table} ${form}`, make, mark)
}

/** A piece of SQL, kept for the next time where it is certain to be the same then. */
function made(session: Session, name: string, make: () => Statement, mark: Mark | undefined): SqlPiece {
  const { caller, clock, columns } = session
  const { text, bind } = mark || !columns.areKnown ? make() : planned(session, name, make)
  return { text, values: bind({ caller, clock }) }
}

/** Names with an underscore before them are this library's own, inside the piece that it hands out. */
function assertAlias(alias: string | undefined): void {
  if (alias === undefined || !alias.startsWith('_') || alias === '_0') return
  throw new InputError('filter', { alias: 'begins with an underscore, as names inside the filter do; choose another' })
}
