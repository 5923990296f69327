import type { Draft, DraftTable } from '../draft/draft.js'
import { leadingTo, type Organisation } from './proposal.js'
import { WORDS } from '../words.js'

const keyOf = ({ fields }: DraftTable) => fields.filter(({ data }) => data.key)

/** The table of the people who sign in: called so, with what signing in takes, and referred to by others. */
export function peopleIn({ tables }: Draft): DraftTable | undefined {
  const scored = tables
    .filter((table) => keyOf(table).length === 1)
    .map((table) => {
      const has = (like: RegExp) => table.fields.some(({ name }) => like.test(name))
      const referring = tables.filter((each) => leadingTo(each, table.name).length > 0).length
      const points = [
        WORDS.people.test(table.name) ? 3 : 0,
        has(WORDS.mail) ? 2 : 0,
        has(/passw|pwd/i) ? 2 : 0,
        Math.min(referring, 4) / 2,
      ]
      return { table, score: points.reduce((sum, each) => sum + each, 0) }
    })
    .sort((left, right) => right.score - left.score)
  return scored.find(({ score }) => score >= 3.5)?.table
}

/** The organisation that callers and most records belong to. */
export function organisationIn({ tables }: Draft, people: DraftTable | undefined): Organisation | undefined {
  if (!people) return undefined
  for (const { name: field, data } of people.fields) {
    const { references: table, optional } = data
    // Called so, or that without which nobody is.
    if (table === undefined || table === people.name || (optional && !WORDS.organisation.test(table))) continue
    const has = (each: DraftTable) => leadingTo(each, table).some(({ name }) => name === field)
    if (tables.filter(has).length < 3) continue
    const outside = tables.filter((each) => each.name !== table && !has(each)).map(({ name }) => name)
    return { field, table, optional: optional === true, outside }
  }
  return undefined
}

/** The roles that people are said to have, where their table lists them. */
export function rolesIn(people: DraftTable | undefined): readonly string[] {
  const field = people?.fields.find(({ name, data }) => WORDS.role.test(name) && data.type === 'choice')
  return field?.data.choices ?? []
}
