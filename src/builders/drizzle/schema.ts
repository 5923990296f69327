import {
  type Column,
  createTableRelationsHelpers,
  extractTablesRelationalConfig,
  getTableColumns,
  is,
  One,
  type Relation,
  Table,
  type TablesRelationalConfig,
} from 'drizzle-orm'
import { getTableConfig as mysqlConfig, MySqlTable } from 'drizzle-orm/mysql-core'
import { getTableConfig as pgConfig, PgTable } from 'drizzle-orm/pg-core'
import { getTableConfig as sqliteConfig, SQLiteTable } from 'drizzle-orm/sqlite-core'
import { ModelError } from '../../model/index.js'

/** A table of a Drizzle schema, with its columns by the names that the schema has for both. */
export interface SchemaTable {
  readonly name: string
  readonly stored: { readonly schema?: string; readonly name: string }
  readonly columns: ReadonlyMap<string, Column>
  /** The columns of its key. */
  readonly key: readonly string[]
  /** Those that no two records have the same values in, taken together. */
  readonly uniques: readonly (readonly string[])[]
  /** Where a column leads by a foreign key or a relation of its own: to another table's column. */
  readonly leads: ReadonlyMap<string, Column>
  /** Relations to one record, by name. */
  readonly relations: ReadonlyMap<string, Relation>
}

/** What the three dialects say alike of a table. */
interface Config {
  readonly columns: readonly Column[]
  readonly primaryKeys: readonly { readonly columns: readonly Column[] }[]
  readonly uniqueConstraints: readonly { readonly columns: readonly Column[] }[]
  readonly foreignKeys: readonly {
    reference(): { readonly columns: readonly Column[]; readonly foreignColumns: readonly Column[] }
  }[]
  readonly name: string
  readonly schema?: string | undefined
}

function configOf(name: string, table: Table): Config {
  if (is(table, PgTable)) return pgConfig(table)
  if (is(table, MySqlTable)) return mysqlConfig(table)
  if (is(table, SQLiteTable)) return sqliteConfig(table)
  throw new ModelError(`${name} is no table of PostgreSQL, MySQL or SQLite.`)
}

/** The tables of a Drizzle schema. */
export function tablesIn(schema: Readonly<Record<string, unknown>>): readonly SchemaTable[] {
  const { tables: related } = extractTablesRelationalConfig<TablesRelationalConfig>(schema, createTableRelationsHelpers)
  return Object.entries(schema).flatMap(([name, table]) =>
    is(table, Table) ? [tableIn(name, table, Object.entries(related[name]?.relations ?? {}))] : [],
  )
}

function tableIn(name: string, table: Table, relations: readonly (readonly [string, Relation])[]): SchemaTable {
  const config = configOf(name, table)
  const columns = new Map(Object.entries<Column>(getTableColumns(table)))
  // What a table says beside its columns, it says of copies of them.
  const nameOf = new Map([...columns].map(([field, column]) => [column.name, field] as const))
  const named = (of: readonly Column[]) => of.flatMap((column) => nameOf.get(column.name) ?? [])
  const alone = (of: readonly Column[]) => (of.length === 1 ? named(of) : [])
  const composite = config.primaryKeys.flatMap((each) => named(each.columns))
  const ones = relations.flatMap(([, relation]) => (is(relation, One) && relation.config ? [relation.config] : []))
  const leads = [
    ...config.foreignKeys.map((each) => each.reference()),
    ...ones.map(({ fields, references }) => ({ columns: fields, foreignColumns: references })),
  ].flatMap(({ columns: from, foreignColumns: [to] }) =>
    alone(from).flatMap((field) => (to ? [[field, to] as const] : [])),
  )
  return {
    name,
    stored: { ...(config.schema !== undefined && { schema: config.schema }), name: config.name },
    columns,
    key: composite.length > 0 ? composite : [...columns].flatMap(([field, { primary }]) => (primary ? [field] : [])),
    uniques: [
      ...[...columns].flatMap(([field, { isUnique }]) => (isUnique ? [[field]] : [])),
      ...config.uniqueConstraints.map((each) => named(each.columns)).filter((names) => names.length > 0),
    ],
    leads: new Map(leads),
    relations: new Map(relations.filter(([, relation]) => is(relation, One))),
  }
}
