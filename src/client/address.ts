import type { FieldName, KeyOf, RelationsOf, TableName } from '../model/index.js'
import { keyPath, type ModelData, readKey } from '../model/index.js'

/** A field to sort by, `'title'` or `'title descending'`. */
type OrderBy<M, T extends TableName<M>> = FieldName<M, T> | `${FieldName<M, T>} descending`

/** What of each record is wanted. */
export interface RecordQuery<M, T extends TableName<M>> {
  /** The fields, besides the key; left out, all. */
  readonly fields?: readonly FieldName<M, T>[]
  /** Says of each record, as `$access`, what may be done to it. */
  readonly access?: boolean
  /** Brings related records along, each under the rules of its own table. */
  readonly with?: { readonly [R in keyof RelationsOf<M, T>]?: true | RelatedQuery<M, RelationsOf<M, T>[R]> }
}

/** What is wanted of related records. */
export type RelatedQuery<M, R> = R extends { table: infer C extends TableName<M> }
  ? Omit<ListQuery<M, C>, 'after'> & {
      /** By which of several references: the name of its field. */
      readonly by?: FieldName<M, C>
    }
  : never

/** Which records are wanted, and what of each. */
export interface ListQuery<M, T extends TableName<M>> extends RecordQuery<M, T> {
  /**
   * Which records, as docs/http.md says: `audience eq 'public'`. Values that somebody typed are put in by {@link filter}.
   * @example filter`title eq ${typed}`
   */
  readonly filter?: string
  readonly orderBy?: OrderBy<M, T> | readonly OrderBy<M, T>[]
  /** How many at most, 1 to 200; left out, 50. */
  readonly limit?: number
  /** Where a page begins: the `next` of the one before. */
  readonly after?: string
}

/** The same for whatever table. */
export interface AnyQuery {
  readonly fields?: readonly string[]
  readonly access?: boolean
  readonly with?: Readonly<Record<string, true | AnyQuery>>
  readonly by?: string
  readonly filter?: string
  readonly orderBy?: string | readonly string[]
  readonly limit?: number
  readonly after?: string
}

/**
 * A filter with values in it, each written so that it is that value and nothing else.
 *
 * @example filter`plotId eq ${plot.id} and title eq ${"Ana's beans"}` // "plotId eq 4 and title eq 'Ana''s beans'"
 */
export function filter(texts: TemplateStringsArray, ...values: readonly FilterValue[]): string {
  return texts.map((text, at) => (at < values.length ? `${text}${literal(values[at] as FilterValue)}` : text)).join('')
}

/** A value that can stand in a filter. */
export type FilterValue = string | number | bigint | boolean | Date | null

function literal(value: FilterValue): string {
  if (typeof value === 'string') return `'${value.replaceAll("'", "''")}'`
  return value instanceof Date ? value.toISOString() : String(value)
}

/** The query string of a list or a record; empty, or with its question mark. */
export function queryOf(query: AnyQuery): string {
  const { after } = query
  const parameters = new URLSearchParams(partsOf(query))
  if (after !== undefined) parameters.set('$skiptoken', placeIn(after))
  return parameters.size === 0 ? '' : `?${parameters.toString()}`
}

/** A page's link holds its place. */
const placeIn = (next: string): string =>
  new URLSearchParams(next.slice(next.indexOf('?') + 1)).get('$skiptoken') ?? next

function partsOf({
  fields,
  access,
  with: related,
  by,
  filter: which,
  orderBy,
  limit,
}: AnyQuery): Record<string, string> {
  const orders = orderBy === undefined ? [] : [orderBy].flat()
  return {
    ...(by !== undefined && { by }),
    ...(fields && { $select: fields.join(',') }),
    ...(related && { $expand: Object.entries(related).map(expansion).join(',') }),
    ...(which !== undefined && { $filter: which }),
    ...(orders.length > 0 && { $orderby: orders.map((each) => each.replace(/ descending$/, ' desc')).join(',') }),
    ...(limit !== undefined && { $top: String(limit) }),
    ...(access && { access: 'true' }),
  }
}

function expansion([name, asked]: readonly [string, true | AnyQuery]): string {
  const parts = asked === true ? [] : Object.entries(partsOf(asked)).map(([part, value]) => `${part}=${value}`)
  return parts.length === 0 ? name : `${name}(${parts.join(';')})`
}

/** The path of a record below the base. */
export const recordPath = <M>(model: ModelData, table: string, key: KeyOf<M, TableName<M>>): string =>
  `/${table}/${keyPath(model, table, readKey(model, table, key))}`
