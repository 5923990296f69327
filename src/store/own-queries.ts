import { tableOf } from '../model/index.js'
import { assertAction, permission, rulesOf, specialise } from '../rules/index.js'
import { filterStatement, type Form, type Mark, planView, type Statement } from '../sql/index.js'
import { assertForm } from './ask.js'
import { planned, type Session } from './session.js'

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
  const { rulebook, dialect, caller } = session
  assertAction(rulesOf(rulebook, table), table, action)
  assertForm(form)
  const wanted = action === 'read' ? 'list' : action
  const make = () =>
    filterStatement({ rulebook, dialect, form }, table, specialise(permission(rulebook, table, wanted), caller), {
      ...(alias !== undefined && { alias }),
      ...(mark && { mark }),
    })
  return bound(
    session,
    mark ? make() : planned(session, `own ${wanted} ${table} ${form} ${JSON.stringify(alias)}`, make),
  )
}

/** A subquery, in brackets, that stands for the table as the caller may see it. */
export function view(session: Session, table: string, { placeholder: mark, form = 'gather' }: FilterOptions = {}) {
  const { rulebook, dialect, caller } = session
  tableOf(rulebook.model, table)
  assertForm(form)
  const make = () =>
    planView({ rulebook, dialect, form }, table, caller, specialise(permission(rulebook, table, 'list'), caller), mark)
  return bound(session, mark ? make() : planned(session, `view ${table} ${form}`, make))
}

const bound = ({ caller, clock }: Session, { text, bind }: Statement): SqlPiece => ({
  text,
  values: bind({ caller, clock }),
})
