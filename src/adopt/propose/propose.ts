import { parentName } from '../../model/index.js'
import type { Draft, DraftField, DraftTable } from '../draft/draft.js'
import { grantsOf } from './grants.js'
import { organisationIn, peopleIn, rolesIn } from './people.js'
import {
  leadingTo,
  type Organisation,
  type Proposal,
  type Suggested,
  type SuggestedGrant,
  type TableProposal,
} from './proposal.js'
import { goneOf, stampsOf } from './stamps.js'
import { WORDS } from '../words.js'
import { distinct, isBetween, type Tie, tiesOf, wholeOf } from './ties.js'

/** Proposes first rules: what columns and references suggest, and nothing else. Every table that nothing suggests stays closed. */
export function propose(draft: Draft): Proposal {
  const people = peopleIn(draft)
  const organisation = organisationIn(draft, people)
  const own = new Map(draft.tables.map((table) => [table.name, tiesOf(draft, table, people)]))
  const ties = withWholes(draft, own, people)
  const open = new Map(
    draft.tables.map(
      (table) => [table, grantsOf(table, ties.get(table.name) ?? [], { people, organisation })] as const,
    ),
  )
  const tables = [...open].map(([table, grants]): TableProposal => {
    const found = ties.get(table.name) ?? []
    const gone = goneOf(table)
    const fence = organisation && table.name === organisation.table ? ofOneself(table, organisation) : undefined
    return {
      table,
      ties: found,
      grants,
      stamps: stampsOf(table, found, grants, organisation),
      ...(gone && { gone }),
      ...(fence && { fence }),
      remarks: found.length === 0 ? [closedFor(table, open)] : remarksOf(table, found, grants, people),
    }
  })
  return { ...(people && { people }), ...(organisation && { organisation }), roles: rolesIn(people), tables }
}

/** Lets tables without people of their own follow the record that theirs are a part of. */
function withWholes(
  draft: Draft,
  own: ReadonlyMap<string, readonly Tie[]>,
  people: DraftTable | undefined,
): ReadonlyMap<string, readonly Tie[]> {
  const ties = new Map(own)
  let isNew = true
  while (isNew) {
    isNew = false
    for (const table of draft.tables) {
      const found = wholeOf(table, people)
      if (!found || (ties.get(table.name) ?? []).some(({ standing }) => standing.startsWith('parent'))) continue
      const between = isBetween(table, people)
      const { field, isSure } = found
      const whole = ties.get(field.data.references as string) ?? []
      // A table with people of its own is not opened further; who sees a list of people, whoever owns its record says.
      if (whole.length === 0 || (!between && (ties.get(table.name) ?? []).length > 0)) continue
      const more = followed(field, between, isSure)
      ties.set(table.name, distinct([...(ties.get(table.name) ?? []), ...more]))
      isNew = true
    }
  }
  return ties
}

function followed({ name, data }: DraftField, isBetween: boolean, isSure: boolean): readonly Tie[] {
  const relation = parentName(name)
  const because = isSure ? `part of the ${relation}` : `there is nothing else it could be part of`
  const of = (end: string, action: string, standing: Tie['standing']): Tie => ({
    name: `${relation}${end}`,
    that: `row.${relation}.may('${action}')`,
    because,
    standing,
  })
  const [reader, keeper] = [of('Reader', 'read', 'parentReader'), of('Keeper', 'update', 'parentKeeper')]
  // Where a default says which record it is part of, only the database knows that before it is stored.
  const keepers = data.filled ? [] : [keeper]
  if (isBetween) return keepers
  return isSure ? [reader, ...keepers] : [reader]
}

const ofOneself = (table: DraftTable, { field }: Organisation): Suggested => ({
  name: 'fence',
  that: `row.${table.fields.find(({ data }) => data.key)?.name}.is(caller.${field})`,
  because: 'one’s own organisation',
})

/** That a table is closed, and what nobody can set for that: a reference to what cannot be seen. */
function closedFor(closed: DraftTable, open: ReadonlyMap<DraftTable, readonly SuggestedGrant[]>): string {
  const set = [...open].flatMap(([table, grants]) =>
    leadingTo(table, closed.name)
      .filter(({ name }) => grants.some(({ action, fields }) => action !== 'read' && fields?.includes(name)))
      .map(({ name }) => `${table.name}.${name}`),
  )
  const until = set.length > 0 ? [`until somebody may read it, nobody can set ${set.join(', ')}`] : []
  return ['nothing suggests who may do what: closed', ...until].join('; ')
}

function remarksOf(
  table: DraftTable,
  ties: readonly Tie[],
  grants: readonly SuggestedGrant[],
  people: DraftTable | undefined,
): readonly string[] {
  const makes = ties.some(({ standing, name }) => standing === 'owner' && name !== 'self')
  const isMade = grants.some(({ action }) => action === 'create')
  const changed = new Set(grants.filter(({ action }) => action === 'update').flatMap(({ fields }) => fields ?? []))
  const kept = table.fields.filter(({ name, data }) => !data.key && !WORDS.secret.test(name) && !changed.has(name))
  return [
    ...(table.name === people?.name && kept.length > 0
      ? [`others say what gives rights: nobody changes ${kept.map(({ name }) => name).join(', ')} of their own`]
      : []),
    ...(makes && !isMade ? ['what a new record has to have, nothing says who may set: nobody may create one yet'] : []),
    ...(isBetween(table, people)
      ? [`who is listed has to be visible to whoever lists them: open ${people?.name}, or say conflicts('told')`]
      : []),
  ]
}
