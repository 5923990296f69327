import type { Column, ExtractTableRelationsFromSchema, One, Table } from 'drizzle-orm'
import type { Field, Json, Model, ParentName, Tables, ValueOf } from '../../model/index.js'
import type { KINDS, LISTS } from './kinds.js'

/** A Drizzle schema: all that its file exports. */
export type Schema = Readonly<Record<string, unknown>>

/** The names under which a schema has tables. */
export type TablesIn<S> = { [K in keyof S & string]: S[K] extends Table ? K : never }[keyof S & string]

type Columns<T> = T extends Table ? T['_']['columns'] : never

/** What is said of columns besides the schema: a field in place of what the call makes of it, or `null` to leave it out. */
export type Said<S> = {
  readonly [T in TablesIn<S>]?: {
    readonly [F in keyof Columns<S[T]>]?: Field<unknown, boolean, TablesIn<S> | null> | null
  }
}

type Kinds = typeof KINDS

/** What Drizzle says the values are, where that is closer than what the field alone would: some texts, a kind of number. */
type Closer<V, Data> = V extends string | number | bigint ? (Data extends V ? Data : V) : V

/** The values of a column of a kind that has a field. */
type ValueIn<C extends Column> = C['_']['columnType'] extends infer Kind
  ? Kind extends 'PgArray'
    ? readonly Closer<ItemIn<C['_']['baseColumn']>, ItemOf<C['_']['data']>>[]
    : Kind extends 'PgJson' | 'PgJsonb' | 'MySqlJson' | 'SQLiteTextJson'
      ? unknown extends C['_']['data']
        ? Json
        : C['_']['data']
      : Kind extends keyof Kinds
        ? Closer<BuiltBy<Kinds[Kind]>, C['_']['data']>
        : never
  : never

type ItemIn<C> = C extends Column
  ? C['_']['columnType'] extends keyof typeof LISTS
    ? BuiltBy<(typeof LISTS)[C['_']['columnType']]>
    : never
  : never

type ItemOf<Data> = Data extends readonly (infer Item)[] ? Item : never

type BuiltBy<Build extends (column: Column) => Field | undefined> = ValueOf<Tables, NonNullable<ReturnType<Build>>>

/** The table that is stored under a name. */
type StoredAs<S, Name> = {
  [K in TablesIn<S>]: S[K] extends Table ? (S[K]['_']['name'] extends Name ? K : never) : never
}[TablesIn<S>]

type RelationsOf<S, T> = T extends Table
  ? S extends Record<string, unknown>
    ? ExtractTableRelationsFromSchema<S, T['_']['name']>
    : never
  : never

/** The table a column leads to, as far as types tell: by a relation of `relations()` that is called as rules would call it. */
type LeadsTo<S, T, F extends string> = [RelationsOf<S, T>] extends [never]
  ? null
  : ParentName<F> extends keyof RelationsOf<S, T>
    ? RelationsOf<S, T>[ParentName<F>] extends One<infer Name, boolean>
      ? StoredAs<S, Name>
      : null
    : null

type IsOptional<C extends Column> = C['_']['notNull'] extends true ? false : true

type FieldFor<S, T extends keyof S, F extends string, C extends Column, Given> =
  Given extends Field<infer V, boolean, infer R, infer K>
    ? MarkedField<C, V, R, K>
    : MarkedField<C, ValueIn<C>, LeadsTo<S, S[T], F>, false>

type MarkedField<C extends Column, V, R extends string | null, K extends boolean> = (
  K extends true ? true : C['_']['isPrimaryKey']
) extends true
  ? Field<V, false, R, true>
  : Field<V, IsOptional<C>, R, false>

type GivenFor<O, T, F> = T extends keyof O ? (F extends keyof O[T] ? O[T][F] : undefined) : undefined

/** Whether a column is in the model: one that is said to be, or of a kind that has a field. */
type IsHeld<C extends Column, Given> = Given extends null
  ? false
  : Given extends Field
    ? true
    : C['_']['columnType'] extends 'PgArray'
      ? C['_']['baseColumn'] extends Column
        ? Holds<typeof LISTS, C['_']['baseColumn']['_']['columnType']>
        : false
      : Holds<Kinds, C['_']['columnType']>

type Holds<All, Kind> = Kind extends keyof All ? true : false

/** The model of a Drizzle schema. */
export type ModelIn<S, O> = Model<{
  readonly [T in TablesIn<S>]: {
    readonly [
      F in keyof Columns<S[T]> & string as IsHeld<Columns<S[T]>[F], GivenFor<O, T, F>> extends true ? F : never
    ]: FieldFor<S, T, F, Columns<S[T]>[F], GivenFor<O, T, F>>
  }
}>
