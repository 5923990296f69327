import type { Field } from './field.js'
import type { Model, Tables } from './model.js'

/** The tables a model was made of, for the compiler. */
export type TablesOf<M> = M extends Model<infer T> ? T : never

/** The names of a model's tables. */
export type TableName<M> = keyof TablesOf<M> & string

/** The names of a table's fields. */
export type FieldName<M, T extends TableName<M>> = keyof TablesOf<M>[T] & string

/** The fields of a table that make up its key. */
export type KeyFields<F> = {
  [K in keyof F]: F[K] extends Field<unknown, boolean, string | null, true> ? K : never
}[keyof F]

/** The table a field refers to, or `null`. */
export type TargetOf<F> = F extends Field<unknown, boolean, infer R, boolean> ? R : null

/** Whether a field may be missing. */
export type IsOptional<F> = F extends Field<unknown, infer O, string | null, boolean> ? O : false

/** The JavaScript type of a field's value where it is present; that of the other table's key for a reference. */
export type ValueOf<T extends Tables, F> =
  TargetOf<F> extends infer R
    ? R extends keyof T
      ? ValueOf<T, T[R][KeyFields<T[R]>]>
      : F extends Field<infer V, boolean, string | null, boolean>
        ? V
        : never
    : never

type Stored<T extends Tables, F> = IsOptional<F> extends true ? ValueOf<T, F> | null : ValueOf<T, F>

/** A record as it is stored: missing values are `null`. */
export type RecordOf<M, T extends TableName<M>> = {
  readonly [F in FieldName<M, T>]: Stored<TablesOf<M>, TablesOf<M>[T][F]>
}

/** A record as a caller gets it: its key, and whichever other fields the caller may see. */
export type VisibleRecord<M, T extends TableName<M>> = Pick<
  RecordOf<M, T>,
  KeyFields<TablesOf<M>[T]> & FieldName<M, T>
> &
  Partial<RecordOf<M, T>>

/** Values sent to `create` or `update`. */
export type ValuesOf<M, T extends TableName<M>> = Partial<RecordOf<M, T>>

/** What names one record: the key's value, or an object of them where the key is composite. */
export type KeyOf<M, T extends TableName<M>> =
  IsUnion<KeyFields<TablesOf<M>[T]>> extends true
    ? { readonly [F in KeyFields<TablesOf<M>[T]> & string]: ValueOf<TablesOf<M>, TablesOf<M>[T][F]> }
    : ValueOf<TablesOf<M>, TablesOf<M>[T][KeyFields<TablesOf<M>[T]>]>

/** The name a reference field makes available: `plot` for `plotId`. */
export type ParentName<F extends string> = F extends `${infer S}Id` ? S : F extends `${infer S}_id` ? S : `${F}Record`

/** The tables that each table refers to: worked out once for a model, since every table asks every other. */
type Targets<M> = {
  readonly [C in TableName<M>]: Exclude<
    { [F in keyof TablesOf<M>[C]]: TargetOf<TablesOf<M>[C][F]> }[keyof TablesOf<M>[C]],
    null
  >
}

/** The tables that refer to a table. */
export type Referring<M, T extends string> = {
  [C in TableName<M>]: T extends Targets<M>[C] ? C : never
}[TableName<M>]

/** The fields of a table that refer to another. */
export type ReferringFields<M, C extends TableName<M>, T extends string> = {
  [F in keyof TablesOf<M>[C]]: TargetOf<TablesOf<M>[C][F]> extends T ? F : never
}[keyof TablesOf<M>[C]] &
  string

/** Where each relation of a table leads, by its name: `plot` to one of `plots`, `remarks` to many. */
export type RelationsOf<M, T extends TableName<M>> = {
  readonly [
    F in keyof TablesOf<M>[T] & string as [TargetOf<TablesOf<M>[T][F]>] extends [null] ? never : ParentName<F>
  ]: { readonly table: TargetOf<TablesOf<M>[T][F]> & TableName<M>; readonly one: true; readonly by: never }
} & {
  readonly [C in Referring<M, T>]: {
    readonly table: C
    readonly one: false
    readonly by: ReferringFields<M, C, T>
  }
}

/** Whether a type is a union of several. */
export type IsUnion<U, V = U> = [U] extends [never] ? false : U extends V ? ([V] extends [U] ? false : true) : never
