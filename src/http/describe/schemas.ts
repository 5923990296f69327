import { isNeeded } from '../../decide/index.js'
import { childrenOf, type FieldData, parentsOf, tableOf } from '../../model/index.js'
import { type Action, type Caller, possibleFields, type Rulebook, rulesOf } from '../../rules/index.js'
import { PROBLEM_TYPES } from '../problem.js'
import { type Schema, schemaOf } from './types.js'

/** What is described: the rules, what is served of them, and for whom. */
export interface Scope {
  readonly rulebook: Rulebook
  /** Whose possibilities they are; left out, anyone's. */
  readonly caller: Caller | undefined
  /** The tables whose records can be seen. */
  readonly visible: ReadonlySet<string>
}

export const reference = (name: string): Schema => ({ $ref: `#/components/schemas/${name}` })

const capital = (name: string): string => `${name.charAt(0).toUpperCase()}${name.slice(1)}`

/** The names of the schemas of a table. */
export const recordName = (table: string): string => table
export const pageName = (table: string): string => `${table}Page`
export const sentName = (table: string, action: Action): string => `${table}${capital(action)}`

/** Records as they are seen: which fields are there besides the key, the rules decide for each. */
export function recordSchema({ rulebook, caller, visible }: Scope, table: string): Schema {
  const { model } = rulebook
  const { fields, key } = tableOf(model, table)
  const seen = ['list', 'get'].flatMap((action) => possibleFields(rulebook, table, action, caller) ?? [])
  const own = [...new Set(seen)].map((name) => [name, schemaOf(fields[name] as FieldData)])
  const parents = parentsOf(model, table).filter(
    (relation) => visible.has(relation.table) && seen.includes(relation.from),
  )
  const children = childrenOf(model, table).filter((relation) => visible.has(relation.table))
  const once = children.filter(({ name }) => children.filter((other) => other.name === name).length === 1)
  const related = [
    ...parents.map(({ name, table: to }) => [name, { anyOf: [reference(recordName(to)), { type: 'null' }] }]),
    ...once.map(({ name, table: to }) => [name, { type: 'array', items: reference(recordName(to)) }]),
  ]
  return {
    type: 'object',
    required: key,
    properties: Object.fromEntries([
      ...related,
      ...own,
      ['$access', reference('Access')],
      ['$tag', TAG],
      ['$more', MORE],
    ]) as Schema,
  }
}

export const pageSchema = (table: string): Schema => ({
  type: 'object',
  required: ['records'],
  properties: {
    records: { type: 'array', items: reference(recordName(table)) },
    next: { type: 'string', description: 'The path of the next page; not there on the last.' },
  },
})

/** What can be sent with an action. */
export function sentSchema({ rulebook, caller }: Scope, table: string, action: Action): Schema {
  const { fields } = tableOf(rulebook.model, table)
  const { checks } = rulesOf(rulebook, table)
  const sendable = possibleFields(rulebook, table, action, caller) ?? []
  const properties = sendable.map((name) => [name, schemaOf(fields[name] as FieldData, checks.fields[name])])
  const needed = action === 'create' ? sendable.filter((name) => isNeeded(rulebook, table, name)) : []
  return {
    type: 'object',
    additionalProperties: false,
    properties: Object.fromEntries(properties) as Schema,
    ...(needed.length > 0 && { required: needed }),
  }
}

/** The mark of one record, for `If-Match`, where it was asked what may be done to it. */
const TAG: Schema = { type: 'string' }

const TEXT = { type: 'string' }
const TEXTS = { type: 'array', items: TEXT }
const MORE = { ...TEXTS, description: 'Relations of which there are more records than came.' }

/** What is described once for all tables. */
export const COMMON: Readonly<Record<string, Schema>> = {
  Access: {
    type: 'object',
    description: 'What the caller may do to the record.',
    required: ['may', 'changeable', 'hidden', 'ties', 'seenBy'],
    properties: {
      may: { type: 'object', additionalProperties: { type: 'boolean' } },
      changeable: TEXTS,
      hidden: TEXTS,
      ties: TEXTS,
      seenBy: TEXTS,
    },
  },
  Problem: {
    type: 'object',
    description: 'What went wrong (RFC 9457).',
    required: ['type', 'title', 'status', 'detail'],
    properties: {
      type: { type: 'string', enum: PROBLEM_TYPES },
      title: TEXT,
      status: { type: 'integer' },
      detail: TEXT,
      errors: {
        type: 'array',
        items: { type: 'object', required: ['pointer', 'detail'], properties: { pointer: TEXT, detail: TEXT } },
      },
      records: { type: 'array', items: reference('RecordProblem') },
    },
  },
  RecordProblem: {
    type: 'object',
    required: ['key', 'status', 'detail'],
    properties: { key: {}, status: { type: 'integer' }, detail: TEXT },
  },
  BulkResult: {
    type: 'object',
    required: ['written', 'refused'],
    properties: {
      written: { type: 'array', items: {} },
      refused: { type: 'array', items: reference('RecordProblem') },
    },
  },
}
