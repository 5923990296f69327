import type { FieldData } from '../../model/index.js'
import type { DraftTable } from '../draft/draft.js'
import type { Organisation, SuggestedGrant, TableProposal } from './proposal.js'
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
  for (const { name, data } of fields) {
    const isMoment = data.type === 'timestamp'
    if (owners.includes(name)) create[name] = 'caller.id'
    else if (name === organisation?.field) create[name] = `caller.${name}`
    else if (isMoment && WORDS.created.test(name) && !data.filled) create[name] = 'now'
    else if (isMoment && WORDS.updated.test(name)) {
      update[name] = 'now'
      if (!data.optional && !data.filled) create[name] = 'now'
    }
  }
  return { create: granted('create') ? create : {}, update: granted('update') ? update : {} }
}

/** When a record counts as gone, by a column that says so. */
export function goneOf({ fields }: DraftTable): TableProposal['gone'] {
  for (const { name, data } of fields) {
    const because = `${name} says that it is gone`
    if (data.type === 'timestamp' && data.optional && WORDS.gone.test(name)) {
      return { when: `row.${name}.isSet()`, set: `{ ${name}: now }`, because }
    }
    if (data.type === 'boolean' && WORDS.isGone.test(name)) {
      const when = `row.${name}.is(true)`
      const isIn = ({ unique }: FieldData) => Array.isArray(unique) && unique.includes(name)
      // What a delete sets of what is unique would tell of hidden records, and is refused.
      return data.key || data.unique || fields.some((each) => isIn(each.data))
        ? { when, because: `${because}; part of what is unique, so that no delete sets it` }
        : { when, set: `{ ${name}: true }`, because }
    }
  }
  return undefined
}
