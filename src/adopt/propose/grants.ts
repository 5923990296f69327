import type { DraftField, DraftTable } from '../draft/draft.js'
import { isComputed, type Organisation, type SuggestedGrant } from './proposal.js'
import { goneOf } from './stamps.js'
import type { Standing, Tie } from './ties.js'
import { WORDS } from '../words.js'

interface Context {
  readonly people: DraftTable | undefined
  readonly organisation: Organisation | undefined
}

/** What each tie is worth: whose a record is may do all, who works on it may see and change it, the others may see it. */
const WORTH: Readonly<Record<Standing, readonly SuggestedGrant['action'][]>> = {
  owner: ['read', 'create', 'update', 'delete'],
  handler: ['read', 'update'],
  reader: ['read'],
  everyone: ['read'],
  parentReader: ['read'],
  parentKeeper: ['read', 'create', 'update', 'delete'],
}

/** Who may do what, from the ties. */
export function grantsOf(table: DraftTable, ties: readonly Tie[], context: Context): readonly SuggestedGrant[] {
  const isPeople = table.name === context.people?.name
  const seen = table.fields.filter(({ name }) => !WORDS.secret.test(name))
  const settable = settableIn(table, ties, context)
  const may = (action: SuggestedGrant['action'], ...standings: readonly Standing[]) =>
    ties
      .filter(
        ({ standing }) => WORTH[standing].includes(action) && (standings.length === 0 || standings.includes(standing)),
      )
      .map(({ name }) => name)
  const named = (fields: readonly DraftField[], keys = false) =>
    fields.filter(({ data }) => keys || !data.key).map(({ name }) => name)
  const grant = (
    action: SuggestedGrant['action'],
    to: readonly string[],
    fields?: readonly string[],
  ): readonly SuggestedGrant[] =>
    to.length === 0 || fields?.length === 0 ? [] : [{ action, to, ...(fields && { fields }) }]
  const own = settable.filter(({ name }) => !WORDS.state.test(name))
  const create = own.filter(({ data }) => !data.generated)
  // Whoever works on a record does not hand it on to others.
  const workable = settable.filter(({ data }) => data.references === undefined)
  return [
    ...grant('read', may('read'), seen.length < table.fields.length ? named(seen) : undefined),
    ...(!isPeople && lacksNone(table, create, ties, context)
      ? grant('create', may('create'), named(create, true))
      : []),
    ...grant('update', may('update', 'owner', 'parentKeeper'), named(own)),
    ...grant('update', may('update', 'handler'), named(workable)),
    ...(isPeople ? [] : grant('delete', may('delete'))),
  ]
}

/** What people may set: not what says whose a record is, what the server sets, or what gives rights or money. */
function settableIn(table: DraftTable, ties: readonly Tie[], context: Context): readonly DraftField[] {
  const owning = new Set(ties.filter(({ standing }) => standing === 'owner').map(({ field }) => field))
  return table.fields.filter(({ name, data }) => {
    const isServers = [WORDS.created, WORDS.updated, WORDS.gone, WORDS.isGone, WORDS.editor].some((each) =>
      each.test(name),
    )
    return (
      !owning.has(name) &&
      (table.name !== context.people?.name || isPersonal(name, data)) &&
      !isServers &&
      data.filled !== 'computed' &&
      name !== context.organisation?.field &&
      !WORDS.secret.test(name) &&
      !WORDS.held.test(name)
    )
  })
}

/** Whether people may say it of themselves: where they belong, how they sign in and what they may do, others say. */
const isPersonal = (name: string, { type, unique, references }: DraftField['data']): boolean =>
  WORDS.personal.test(name) && (type === 'text' || type === 'date') && !unique && references === undefined

/** Whether all that a new record has to have can be given, or is filled in. */
function lacksNone(table: DraftTable, given: readonly DraftField[], ties: readonly Tie[], context: Context): boolean {
  const owning = ties.flatMap(({ standing, field }) => (standing === 'owner' && field !== undefined ? [field] : []))
  const gone = goneOf(table)
  // Whether a new record would count as gone has to be known before it is stored.
  if (gone && isComputed(gone.field)) return false
  const isStamped = ({ name, data }: DraftField) =>
    owning.includes(name) ||
    name === gone?.field.name ||
    name === context.organisation?.field ||
    (data.type === 'timestamp' && (WORDS.created.test(name) || WORDS.updated.test(name)))
  return table.fields.every(
    (field) =>
      field.data.optional ||
      field.data.generated ||
      field.data.filled ||
      given.some(({ name }) => name === field.name) ||
      isStamped(field),
  )
}
