import { type Caller, possibleFields, type Rulebook, rulesOf } from '../../rules/index.js'
import { type Part, wholeTables } from '../parts.js'
import { CALLER, DESCRIPTION } from '../path.js'
import {
  actionPath,
  bulkPath,
  callerPath,
  descriptionPath,
  PARAMETERS,
  type Paths,
  recordPath,
  RESPONSES,
  tablePath,
} from './paths.js'
import { COMMON, pageName, pageSchema, recordName, recordSchema, type Scope, sentName, sentSchema } from './schemas.js'
import type { Schema } from './types.js'

/** What is described. */
export interface Described {
  readonly rulebook: Rulebook
  /** The parts that are served, by table; left out, all of every table that has rules. */
  readonly tables?: ReadonlyMap<string, ReadonlySet<Part>>
  readonly base: string
  readonly title: string
}

/**
 * Describes what is served, as OpenAPI 3.1 has it: which records and fields could ever be seen, and which values sent.
 *
 * @param described what is served
 * @param caller whose possibilities are described, as `checkCaller` gives it; left out, anyone's
 * @see https://spec.openapis.org/oas/v3.1.1.html
 */
export function describe(described: Described, caller?: Caller): Schema {
  const { rulebook, base, title, tables = wholeTables(rulebook) } = described
  const isOpen = (table: string, action: string) => possibleFields(rulebook, table, action, caller) !== undefined
  const isServed = (table: string, part: Part) => tables.get(table)?.has(part) === true
  const visible = new Set([...tables.keys()].filter((table) => isOpen(table, 'list') || isOpen(table, 'get')))
  const scope: Scope = { rulebook, caller, visible }
  const schemas: Record<string, Schema> = { ...COMMON }
  const paths: Paths = { [`${base}/${DESCRIPTION}`]: descriptionPath, [`${base}/${CALLER}`]: callerPath }
  for (const table of tables.keys()) {
    const does = (part: Part, action: string) => isServed(table, part) && isOpen(table, action)
    const own = rulesOf(rulebook, table).actions.filter((action) => isOpen(table, action))
    const writes = (['create', 'update', 'delete'] as const).filter((action) => does(action, action))
    const at = `${base}/${table}`
    // What cannot be seen still answers with its key.
    if (visible.has(table) || writes.length > 0 || own.length > 0)
      schemas[recordName(table)] = recordSchema(scope, table)
    if (does('list', 'list')) schemas[pageName(table)] = pageSchema(table)
    for (const action of [...writes, ...(isServed(table, 'act') ? own : [])]) {
      if (action !== 'delete') schemas[sentName(table, action)] = sentSchema(scope, table, action)
    }
    const subject = { rulebook, table }
    paths[at] = tablePath(subject, { list: does('list', 'list'), create: writes.includes('create') })
    paths[`${at}/{key}`] = recordPath(subject, {
      get: does('get', 'get'),
      update: writes.includes('update'),
      delete: writes.includes('delete'),
    })
    if (isServed(table, 'act')) for (const action of own) paths[`${at}/{key}/${action}`] = actionPath(subject, action)
    const many = (['create', 'update', 'delete'] as const).filter((action) => isOpen(table, action))
    if (isServed(table, 'bulk') && many.length + own.length > 0)
      paths[`${at}/$bulk`] = bulkPath(subject, [...many, ...own])
  }
  return {
    openapi: '3.1.1',
    info: { title, version: '1' },
    paths: Object.fromEntries(
      Object.entries(paths).filter(([, item]) => Object.keys(item).some((name) => name !== 'parameters')),
    ),
    components: { schemas, parameters: PARAMETERS, responses: RESPONSES },
  }
}
