import { InputError, tableOf } from '../model/index.js'
import { assertAction, rulesOf } from '../rules/index.js'
import { assertForm } from './ask.js'
import type { Form, PieceRequest, SqlPiece } from './backend.js'
import { filterOf, recordRequest } from './requests.js'
import { bindingsOf, planned, type Session } from './session.js'

/** How a piece of SQL is to fit into a query of your own. */
export interface FilterOptions {
  /** What the table is called in that query; left out, `_0`. */
  readonly alias?: string
  /** How to write a placeholder, by its number from 1: `(n) => '$' + (n + 2)`; left out, as the database's driver has it. */
  readonly placeholder?: (number: number) => string
  /** How the records are to be found; left out, `gather`. */
  readonly form?: Form
}

/** The condition on what the caller may read, for the WHERE of a query of one's own. */
export function filter(
  session: Session,
  table: string,
  action: 'read' | 'list' | 'get',
  options: FilterOptions = {},
): SqlPiece {
  assertAction(rulesOf(session.rulebook, table), table, action)
  assertAlias(options.alias)
  return made(session, table, 'filter', action === 'get' ? 'get' : 'list', options)
}

/** A subquery, in brackets, that stands for the table as the caller may see it. */
export function view(session: Session, table: string, { placeholder, form }: FilterOptions = {}): SqlPiece {
  tableOf(session.rulebook.model, table)
  return made(session, table, 'view', 'list', { ...(placeholder && { placeholder }), ...(form && { form }) })
}

/** A piece of SQL, kept for the next time where it is certain to be the same then. */
function made(
  session: Session,
  table: string,
  kind: PieceRequest['kind'],
  action: 'list' | 'get',
  { alias, placeholder, form = 'gather' }: FilterOptions,
): SqlPiece {
  const { backend } = session
  assertForm(form)
  const make = () => {
    const open = filterOf(session, table, action)
    const record = recordRequest(session, { table, access: false, related: [] }, action, open)
    const named = { ...(alias !== undefined && { alias }), ...(placeholder && { placeholder }) }
    return backend.piece({ ...record, ...named, kind, form, filter: open })
  }
  const isSure = placeholder === undefined && backend.isReady
  const piece = isSure ? planned(session, 'piece', [kind, table, action, form, alias], make) : make()
  return piece.for(bindingsOf(session, {}))
}

/** Names with an underscore before them are this library's own, inside the piece that it hands out. */
function assertAlias(alias: string | undefined): void {
  if (alias === undefined || !alias.startsWith('_') || alias === '_0') return
  throw new InputError('filter', { alias: 'begins with an underscore, as names inside the filter do; choose another' })
}
