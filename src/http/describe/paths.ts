import { tableOf } from '../../model/index.js'
import type { Action, Rulebook } from '../../rules/index.js'
import { HTTP_LIMITS } from '../limits.js'
import { pageName, recordName, reference, sentName } from './schemas.js'
import type { Schema } from './types.js'

/** What can be done at each path. */
export type Paths = Record<string, Schema>

interface Subject {
  readonly rulebook: Rulebook
  readonly table: string
}

const json = (schema: Schema): Schema => ({ 'application/json': { schema } })

const parameter = (name: string): Schema => ({ $ref: `#/components/parameters/${name}` })

const problem = { $ref: '#/components/responses/problem' }

/** The answers that are described once. */
export const RESPONSES: Readonly<Record<string, Schema>> = {
  problem: {
    description: 'What went wrong.',
    content: { 'application/problem+json': { schema: reference('Problem') } },
  },
}

const answers = (status: 200 | 201, description: string, schema: Schema): Schema => ({
  [status]: { description, content: json(schema) },
  default: problem,
})

const TEXT = { type: 'string' }

const query = (name: string, schema: Schema, description: string): Schema => ({
  name,
  in: 'query',
  schema,
  description,
})
const header = (name: string, description: string): Schema => ({ name, in: 'header', schema: TEXT, description })

/** The parameters that are described once. */
export const PARAMETERS: Readonly<Record<string, Schema>> = {
  select: query('$select', TEXT, 'Names of fields.'),
  expand: query('$expand', TEXT, 'Names of relations.'),
  access: query('access', { type: 'boolean' }, 'Whether to say what may be done to each record.'),
  filter: query('$filter', TEXT, 'Which records, in a part of the grammar of OData 4.01.'),
  orderby: query('$orderby', TEXT, 'Names of fields, each with desc behind it or nothing.'),
  top: query(
    '$top',
    { type: 'integer', minimum: 1, maximum: HTTP_LIMITS.mostPageRecords },
    'How many records a page has.',
  ),
  skiptoken: query('$skiptoken', TEXT, 'Where a page begins: from the link to it.'),
  ifMatch: header('If-Match', 'The ETag that the record has to have.'),
  idempotencyKey: header('Idempotency-Key', 'Makes what is sent again under it the same create.'),
}

const OF_ONE = ['select', 'expand', 'access'].map(parameter)
const OF_LIST = [...OF_ONE, ...['filter', 'orderby', 'top', 'skiptoken'].map(parameter)]
const MATCH = parameter('ifMatch')

const keyParameter = ({ rulebook, table }: Subject): Schema => ({
  name: 'key',
  in: 'path',
  required: true,
  schema: TEXT,
  description: `${tableOf(rulebook.model, table).key.join(', ')}, with commas between them.`,
})

const sending = (schema: Schema, type = 'application/json', required = true): Schema => ({
  required,
  content: { [type]: { schema } },
})

export function tablePath({ table }: Subject, open: { readonly list: boolean; readonly create: boolean }): Schema {
  return {
    ...(open.list && {
      get: {
        operationId: `list_${table}`,
        parameters: OF_LIST,
        responses: answers(200, 'A page of records.', reference(pageName(table))),
      },
    }),
    ...(open.create && {
      post: {
        operationId: `create_${table}`,
        parameters: [parameter('idempotencyKey')],
        requestBody: sending(reference(sentName(table, 'create'))),
        responses: answers(201, 'The record, as its caller sees it.', reference(recordName(table))),
      },
    }),
  }
}

export function recordPath(
  subject: Subject,
  open: { readonly get: boolean; readonly update: boolean; readonly delete: boolean },
): Schema {
  const { table } = subject
  return {
    parameters: [keyParameter(subject)],
    ...(open.get && {
      get: {
        operationId: `get_${table}`,
        parameters: OF_ONE,
        responses: answers(200, 'The record.', reference(recordName(table))),
      },
    }),
    ...(open.update && {
      patch: {
        operationId: `update_${table}`,
        parameters: [MATCH],
        requestBody: sending(reference(sentName(table, 'update')), 'application/merge-patch+json'),
        responses: answers(200, 'The record as it is now.', reference(recordName(table))),
      },
    }),
    ...(open.delete && {
      delete: {
        operationId: `delete_${table}`,
        parameters: [MATCH],
        responses: { 204: { description: 'It is removed.' }, default: problem },
      },
    }),
  }
}

export const actionPath = (subject: Subject, action: Action): Schema => ({
  parameters: [keyParameter(subject)],
  post: {
    operationId: `${action}_${subject.table}`,
    parameters: [MATCH],
    requestBody: sending(reference(sentName(subject.table, action)), 'application/json', false),
    responses: answers(200, 'The record as it is now.', reference(recordName(subject.table))),
  },
})

export const bulkPath = ({ table }: Subject, actions: readonly Action[]): Schema => ({
  post: {
    operationId: `bulk_${table}`,
    requestBody: sending({
      type: 'object',
      required: ['action'],
      properties: {
        action: { type: 'string', enum: actions },
        partly: { type: 'boolean', description: 'Whether to write those that are permitted, instead of none.' },
        records: { type: 'array', items: { type: 'object' }, description: 'For create.' },
        keys: { type: 'array', items: { type: ['string', 'integer'] }, description: 'For all but create.' },
        values: { type: 'object', description: 'For an update, or an action of the table.' },
      },
    }),
    responses: answers(200, 'What came of each record.', reference('BulkResult')),
  },
})

export const callerPath: Schema = {
  get: {
    operationId: 'caller',
    responses: answers(200, 'Who asks, and their roles.', {
      type: 'object',
      properties: { signedIn: { type: 'boolean' }, roles: { type: 'array', items: TEXT } },
      required: ['signedIn', 'roles'],
    }),
  },
}

export const descriptionPath: Schema = {
  get: {
    operationId: 'describe',
    responses: answers(200, 'What this caller could see and do, as this document has it.', { type: 'object' }),
  },
}
