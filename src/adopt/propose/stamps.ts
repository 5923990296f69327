import type { FieldData } from '../../model/index.js'
import type { DraftField, DraftTable } from '../draft/draft.js'
import { isComputed, type Organisation, type SuggestedGrant, type TableProposal } from './proposal.js'
import type { Tie } from './ties.js'
import { WORDS } from '../words.js'

/** What the server sets: whose a record is, in which organisation, and when. */
export function stampsOf(
  { fields }: DraftTable,
  ties: readonly Tie[],
  grants: readonly SuggestedGrant[],
  organisation: Organisation | undefined,
): TableProposal['stamps'] {
  const granted = (action: string) => grants.some((each) => each.action === action)
  const owners = ties.flatMap(({ standing, field }) => (standing === 'owner' && field !== undefined ? [field] : []))
  const create: Record<string, string> = {}
  const update: Record<string, string> = {}
  const goneBy = goneOf({ fields })?.field.name
  for (const { name, data } of fields.filter((field) => !isComputed(field))) {
    const isMoment = data.type === 'timestamp'
    // Whether it counts as gone has to be known before it is stored, and what a default says, only the database knows.
    if (name === goneBy && data.type === 'boolean') create[name] = 'false'
    else if (owners.includes(name)) create[name] = 'caller.id'
    else if (name === organisation?.field) create[name] = `caller.${name}`
    else if (isMoment && WORDS.created.test(name) && !data.filled) create[name] = 'now'
    else if (isMoment && WORDS.updated.test(name)) {
      update[name] = 'now'
      if (!data.optional && !data.filled) create[name] = 'now'
    }
  }
  return { create: granted('create') ? create : {}, update: granted('update') ? update : {} }
}

/** When a record counts as gone, by a column that says so: one that can be set, if there is one. */
export function goneOf({ fields }: Pick<DraftTable, 'fields'>): TableProposal['gone'] {
  const inOrder = [...fields].sort((left, right) => Number(isComputed(left)) - Number(isComputed(right)))
  const isMoment = ({ name, data }: DraftField) =>
    data.type === 'timestamp' && data.optional && data.filled !== 'default' && WORDS.gone.test(name)
  const field = inOrder.find((each) => isMoment(each) || (each.data.type === 'boolean' && WORDS.isGone.test(each.name)))
  if (!field) return undefined
  const { name, data } = field
  const when = data.type === 'timestamp' ? `row.${name}.isSet()` : `row.${name}.is(true)`
  const because = `${name} says that it is gone`
  if (isComputed(field)) {
    return { field, when, because: `${because}; computed, so that no delete sets it, and nobody may create one yet` }
  }
  if (data.type === 'timestamp') return { field, when, set: `{ ${name}: now }`, because }
  const isIn = ({ unique }: FieldData) => Array.isArray(unique) && unique.includes(name)
  // What a delete sets of what is unique would tell of hidden records, and is refused.
  return data.key || data.unique || fields.some((each) => isIn(each.data))
    ? { field, when, because: `${because}; part of what is unique, so that no delete sets it` }
    : { field, when, set: `{ ${name}: true }`, because }
}
