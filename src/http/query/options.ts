import {
  childrenOf,
  fieldOf,
  isNever,
  LIMITS,
  type ModelData,
  parentsOf,
  tableOf,
  UnknownNameError,
} from '../../model/index.js'
import { badQuery } from '../errors.js'
import { HTTP_LIMITS } from '../limits.js'
import { type Filter, readFilter } from './filter.js'
import { readPlace } from './place.js'

/** What a query string may say of one record. */
const OF_ONE = ['$select', '$expand', 'access'] as const
/** What it may say of a list. */
const OF_LIST = [...OF_ONE, '$filter', '$orderby', '$top', '$skiptoken'] as const
/** What may be said of related records. */
const OF_RELATED = [...OF_ONE, '$filter', '$orderby', '$top', 'by'] as const

/** What a read is asked, for the scoped store. */
export interface ReadAsked {
  readonly fields?: readonly string[]
  readonly with?: Readonly<Record<string, RelatedAsked>>
  readonly access?: boolean
}

/** What related records are asked. */
export interface RelatedAsked extends ReadAsked {
  /** By which of several references. */
  readonly by?: string
  readonly where?: Filter
  readonly orderBy?: readonly string[]
  readonly limit?: number
}

/** What a list is asked, for the scoped store. */
export interface ListAsked extends RelatedAsked {
  readonly limit: number
  readonly after?: Readonly<Record<string, unknown>>
}

/** A list that was asked for. */
export interface Asked {
  readonly options: ListAsked
  /** The fields that the records are sorted by, the key last. */
  readonly order: readonly string[]
  /** The fields that were asked for only to know where the next page begins. */
  readonly besides: readonly string[]
}

/**
 * Reads what a request asks of a list.
 *
 * @throws {RequestError} 400 where it cannot be read
 * @throws {UnknownNameError} 400 where a name is unknown
 */
export function readListQuery(model: ModelData, table: string, query: URLSearchParams): Asked {
  const given = once(query, OF_LIST)
  const { where, orderBy = [], limit, fields, ...more } = relatedFrom(model, table, given, 1)
  const names = orderBy.map((each) => each.replace(' descending', ''))
  const { key } = tableOf(model, table)
  const order = [...new Set([...names, ...key])]
  const token = given.get('$skiptoken')
  // The key comes with every record.
  const besides = fields ? order.filter((name) => !fields.includes(name) && !key.includes(name)) : []
  const options: ListAsked = {
    ...more,
    ...(fields && { fields: [...fields, ...besides] }),
    ...(where && { where }),
    ...(orderBy.length > 0 && { orderBy }),
    limit: limit ?? HTTP_LIMITS.pageRecords,
    ...(token !== undefined && { after: readPlace(model, table, order, token) }),
  }
  assertBounded(options, options.limit)
  return { options, order, besides }
}

/** Reads what a request asks of one record. */
export function readRecordQuery(model: ModelData, table: string, query: URLSearchParams): ReadAsked {
  if (query.size === 0) return {}
  const given = once(query, OF_ONE)
  const asked = relatedFrom(model, table, given, 1)
  assertBounded(asked, 1)
  return asked
}

/** Refuses what could be too much to answer: related records of related records multiply. */
function assertBounded(asked: RelatedAsked, most: number): void {
  if (worst(asked, most) <= HTTP_LIMITS.allRecords) return
  throw badQuery(`That could be more than ${HTTP_LIMITS.allRecords} records; give a smaller $top, in $expand too.`)
}

/** How many records there could be, where each record has as many related ones as it may. */
function worst({ with: related = {} }: RelatedAsked, most: number): number {
  return most * Object.values(related).reduce((sum, each) => sum + worst(each, each.limit ?? 1), 1)
}

/** @throws {RequestError} where a query string says anything */
export function assertNoQuery(query: URLSearchParams): void {
  once(query, [])
}

type Given = ReadonlyMap<string, string>

/** The parameters by name, each known and there at most once. */
function once(query: URLSearchParams, known: readonly string[]): Given {
  const given = new Map<string, string>()
  for (const [name, value] of query) {
    if (!known.includes(name)) throw new UnknownNameError('parameter', name, known)
    if (given.has(name)) throw badQuery(`${name} stands twice in the query.`)
    given.set(name, value)
  }
  return given
}

function yesOrNo(said: string): boolean {
  if (said === 'true' || said === 'false') return said === 'true'
  throw badQuery('access must be true or false.')
}

function relatedFrom(model: ModelData, table: string, given: Given, depth: number): RelatedAsked {
  const [select, expand, access, filter, orderby, top, by] = OF_RELATED.map((name) => given.get(name))
  return {
    ...(by !== undefined && { by }),
    ...(access !== undefined && { access: yesOrNo(access) }),
    ...(select !== undefined && { fields: selected(model, table, select) }),
    ...(expand !== undefined && { with: expanded(model, table, expand, depth) }),
    ...(filter !== undefined && { where: readFilter(model, table, filter) }),
    ...(orderby !== undefined && { orderBy: ordered(model, table, orderby) }),
    ...(top !== undefined && {
      limit: limited(top, depth === 1 ? HTTP_LIMITS.mostPageRecords : HTTP_LIMITS.relatedRecords),
    }),
  }
}

function selected(model: ModelData, table: string, text: string): readonly string[] {
  const names = [...new Set(text.split(',').map((name) => name.trim()))]
  for (const name of names) fieldOf(model, table, name)
  return names
}

function ordered(model: ModelData, table: string, text: string): readonly string[] {
  return text.split(',').map((each) => {
    const [, name = '', direction] = /^(\S+)(?:\s+(asc|desc))?$/.exec(each.trim()) ?? []
    if (name === '') throw badQuery('$orderby must be names of fields, each with asc or desc behind it or nothing.')
    if (isNever(fieldOf(model, table, name), 'sorted')) throw badQuery(`$orderby is ${name}, which has no order.`)
    return direction === 'desc' ? `${name} descending` : name
  })
}

function limited(text: string, most: number): number {
  const limit = /^\d{1,9}$/.test(text) ? Number(text) : NaN
  if (limit >= 1 && limit <= most) return limit
  throw badQuery(`$top must be a whole number from 1 to ${most}.`)
}

/** `plot,remarks($top=3;$orderby=createdAt desc)` */
function expanded(
  model: ModelData,
  table: string,
  text: string,
  depth: number,
): Readonly<Record<string, RelatedAsked>> {
  if (depth > LIMITS.withDepth) throw badQuery(`$expand nests at most ${LIMITS.withDepth} deep.`)
  const parts = splitAt(text, ',').map((part) => {
    const [, name = '', inner] = /^(\w+)\s*(?:[(]([^]*)[)])?$/.exec(part.trim()) ?? []
    if (name === '')
      throw badQuery('$expand must be names of relations, each with options in brackets behind it or nothing.')
    const parent = parentsOf(model, table).find((relation) => relation.name === name)
    const children = childrenOf(model, table).filter((relation) => relation.name === name)
    const to = parent ?? children[0]
    if (!to) throw new UnknownNameError('relation', name, [], table)
    const given = once(
      new URLSearchParams(
        splitAt(inner ?? '', ';')
          .filter(Boolean)
          .map(asPair),
      ),
      OF_RELATED,
    )
    const asked = relatedFrom(model, to.table, given, depth + 1)
    if (parent && asked.by !== undefined) throw badQuery(`${name} is one reference: by does not go with it.`)
    if (!parent && asked.by === undefined && children.length > 1)
      throw badQuery(`Several fields of ${name} lead here: say by which, as in ${name}(by=…).`)
    // Where nobody said how many, one more than the limit says whether there are more.
    return [name, parent ? asked : { limit: HTTP_LIMITS.relatedRecords + 1, ...asked }] as const
  })
  return Object.fromEntries(parts)
}

function asPair(option: string): [string, string] {
  const at = option.indexOf('=')
  return at < 0 ? [option.trim(), ''] : [option.slice(0, at).trim(), option.slice(at + 1)]
}

/** The parts of a text between separators that stand neither in brackets nor in quotes. */
function splitAt(text: string, separator: string): readonly string[] {
  const parts: string[] = []
  let [depth, quoted, start] = [0, false, 0]
  for (let at = 0; at < text.length; at += 1) {
    const each = text[at]
    if (each === "'") quoted = !quoted
    else if (quoted) continue
    else if (each === '(') depth += 1
    else if (each === ')') depth -= 1
    else if (each === separator && depth === 0) {
      parts.push(text.slice(start, at))
      start = at + 1
    }
  }
  return [...parts, text.slice(start)]
}
