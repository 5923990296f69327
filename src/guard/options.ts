import type { Condition, Row } from '../condition/index.js'
import type { Access } from '../decide/index.js'
import type { FieldName, KeyFields, RecordOf, RelationsOf, TableName, TablesOf, VisibleRecord } from '../model/index.js'
import type { Form } from './backend.js'

/** What of each record is wanted. */
export interface ReadOptions<M, T extends TableName<M>> {
  /** The fields to read besides the key; left out, all. */
  readonly fields?: readonly FieldName<M, T>[]
  /** Adds to each record, as `$access`, what the caller may do to it. */
  readonly access?: boolean
  /**
   * Adds the records it refers to, or those that refer to it, each under the rules of its own table, and all in
   * the same query.
   * @example { with: { plot: true, remarks: { orderBy: 'createdAt', limit: 3 } } }
   */
  readonly with?: { readonly [R in keyof RelationsOf<M, T>]?: true | RelatedOptions<M, RelationsOf<M, T>[R]> }
}

/** Which records are meant. */
export interface WhereOptions<M, T extends TableName<M>> {
  /**
   * A further condition. A field hidden from the caller counts as missing in it, and what the caller may not
   * list is not there.
   * @example { where: (row) => all(row.audience.is('public'), row.may('update')) }
   */
  readonly where?: (row: Row<M, T>) => Condition
  /** How to find the records, instead of what the guard would choose. */
  readonly form?: Form
}

/** A field to sort by, `'title'` or `'title descending'`; missing values sort before all others. */
export type OrderBy<M, T extends TableName<M>> = FieldName<M, T> | `${FieldName<M, T>} descending`

interface OrderedOptions<M, T extends TableName<M>> extends ReadOptions<M, T>, WhereOptions<M, T> {
  /** What to sort by; the key comes last in any case. Left out, the key alone. */
  readonly orderBy?: OrderBy<M, T> | readonly OrderBy<M, T>[]
  /** At most so many records, 0 or more; left out, all. */
  readonly limit?: number
}

/** What a `list` may be asked. */
export interface ListOptions<M, T extends TableName<M>> extends OrderedOptions<M, T> {
  /** Leaves out so many records from the start, 0 or more. For far pages, `after` is faster. */
  readonly offset?: number
  /** Only what comes after this record, in the order asked for: the last record of the page before. */
  readonly after?: Partial<RecordOf<M, T>>
}

/** What a `stream` may be asked. */
export interface StreamOptions<M, T extends TableName<M>> extends Omit<
  ListOptions<M, T>,
  'limit' | 'offset' | 'after'
> {
  /** How many records are read at a time. */
  readonly batch?: number
}

/** What may be asked of related records. */
export type RelatedOptions<M, R> = R extends { table: infer C extends TableName<M>; by: infer B }
  ? Omit<OrderedOptions<M, C>, 'form'> & ([B] extends [never] ? unknown : { readonly by?: B })
  : never

/** A record as `list` returns it, by what was asked. */
export type Listed<M, T extends TableName<M>, O> = Chosen<M, T, O> &
  (O extends { readonly access: true } ? { readonly $access: Access } : unknown) &
  (O extends { readonly with: infer W } ? Related<M, T, W> : unknown)

type Chosen<M, T extends TableName<M>, O> = O extends { readonly fields: readonly (infer F)[] }
  ? Pick<VisibleRecord<M, T>, (F | KeyFields<TablesOf<M>[T]>) & keyof VisibleRecord<M, T>>
  : VisibleRecord<M, T>

type Related<M, T extends TableName<M>, W> = {
  readonly [R in keyof W & keyof RelationsOf<M, T>]: RelationsOf<M, T>[R] extends {
    table: infer C extends TableName<M>
    one: infer One
  }
    ? One extends true
      ? Listed<M, C, W[R]> | null
      : readonly Listed<M, C, W[R]>[]
    : never
}
