import { parentName } from '../../model/index.js'
import type { Draft, DraftField, DraftTable } from '../draft/draft.js'
import { alike, free } from '../draft/names.js'
import { isComputed, leadingTo, type Suggested } from './proposal.js'
import { WORDS } from '../words.js'

/** What a tie lets its people do: all with a record that is theirs, work on it, or see it. */
export type Standing = 'owner' | 'handler' | 'reader' | 'everyone' | 'parentReader' | 'parentKeeper'

/** A tie, and what it is worth. */
export interface Tie extends Suggested {
  readonly standing: Standing
  /** The field that says so, where the record itself does. */
  readonly field?: string
}

/** The ties that a table's own columns suggest, and the tables between its records and people. */
export function tiesOf(draft: Draft, table: DraftTable, people: DraftTable | undefined): readonly Tie[] {
  if (people && table.name === people.name) {
    const [key] = table.fields.filter(({ data }) => data.key)
    return key ? [tie('self', `row.${key.name}.is(caller.id)`, 'one’s own record', 'owner')] : []
  }
  return distinct([...personal(table, people), ...shared(draft, table, people), ...opened(table)])
}

/** Ties, each under a name of its own. */
export function distinct(ties: readonly Tie[]): readonly Tie[] {
  const taken = new Set<string>()
  return ties.map((each) => {
    const name = free(each.name, taken)
    taken.add(name)
    return { ...each, name }
  })
}

const tie = (name: string, that: string, because: string, standing: Standing, field?: string): Tie => ({
  name,
  that,
  because,
  standing,
  ...(field !== undefined && { field }),
})

function personal(table: DraftTable, people: DraftTable | undefined): readonly Tie[] {
  const between = isBetween(table, people)
  const isMoney = table.fields.some(({ name }) => WORDS.money.test(name))
  return leadingTo(table, people?.name)
    .filter(({ name }) => !WORDS.editor.test(name))
    .map(({ name }) => {
      const made = (because: string, standing: Standing) =>
        tie(nameFor(name), `row.${name}.is(caller.id)`, `${name} ${because}`, standing, name)
      // Nobody lists themselves.
      if (between) return made('is listed', 'reader')
      if (WORDS.handler.test(name)) return made('says who works on it', 'handler')
      if (!WORDS.owner.test(name)) return made('names a person', 'reader')
      return isMoney ? made('says whom it concerns; it is about money', 'reader') : made('says whose it is', 'owner')
    })
}

/** What a tie is called after its field: `grower` for `growerNo`. */
const nameFor = (field: string): string =>
  parentName(field)
    .replace(/Record$/, '')
    .replace(/(?<=[a-z])(?:No|Nr|Num|Number|Code|Key)$/, '')

/** Whether a table only says which people have to do with which records. */
export function isBetween(table: DraftTable, people: DraftTable | undefined): boolean {
  const [persons, others] = [leadingTo(table, people?.name), parents(table, people)]
  const keys = table.fields.filter(({ data }) => data.key)
  const isPair = keys.length > 1 && keys.every(({ data }) => data.references !== undefined)
  return persons.length === 1 && others.length === 1 && (isPair || WORDS.share.test(table.name))
}

/** The fields that refer to anything but people. */
export const parents = ({ fields, name }: DraftTable, people: DraftTable | undefined): readonly DraftField[] =>
  fields.filter((field) => {
    const { references } = field.data
    return references !== undefined && references !== people?.name && references !== name && !isComputed(field)
  })

function shared({ tables }: Draft, table: DraftTable, people: DraftTable | undefined): readonly Tie[] {
  return tables
    .filter((each) => isBetween(each, people))
    .flatMap((between) => {
      const [[person], back] = [leadingTo(between, people?.name), leadingTo(between, table.name)]
      if (!person || back.length !== 1) return []
      const that = `row.${between.name}.some((each) => each.${person.name}.is(caller.id))`
      const name = between.name.replace(/ies$/, 'y').replace(/s$/, '')
      return [tie(name, that, `${between.name} lists people`, 'reader')]
    })
}

function opened({ fields }: DraftTable): readonly Tie[] {
  return fields.flatMap(({ name, data }) => {
    if (data.type === 'boolean' && WORDS.open.test(name)) {
      return [tie('everyone', `row.${name}.is(true)`, `${name} says that it is open`, 'everyone')]
    }
    const word = data.type === 'choice' ? data.choices?.find((each) => WORDS.openWord.test(each)) : undefined
    if (word === undefined) return []
    return [tie('everyone', `row.${name}.is('${word}')`, `${name} can be ${word}`, 'everyone')]
  })
}

/** The record that a record is a part of, as an order is of its items. */
export interface Whole {
  readonly field: DraftField
  /** Whether its name or its key says so, and not only that there is no other. */
  readonly isSure: boolean
}

/** What a record is a part of: by its name, its key, or as the only one there is. */
export function wholeOf(table: DraftTable, people: DraftTable | undefined): Whole | undefined {
  const required = parents(table, people).filter(({ data }) => !data.optional)
  const beginning = table.name.replace(/(?<=[a-z0-9])[A-Z][a-z0-9]*$/, '')
  const sure = required.find(
    ({ data }) => data.key === true || (beginning !== table.name && alike(beginning, data.references ?? '')),
  )
  if (sure) return { field: sure, isSure: true }
  const [only, ...more] = required
  return only && more.length === 0 ? { field: only, isSure: false } : undefined
}
