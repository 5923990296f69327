import type { FieldType, Shape } from '../../model/index.js'
import { sqlite } from '../../sql/index.js'
import {
  type Ask,
  byTable,
  type CatalogueTable,
  chosen,
  grouped,
  type Held,
  marked,
  onDelete,
  toldBy,
} from './catalogue.js'
import { LOOKED_AT } from './values.js'

interface TableRow {
  readonly table: string
  readonly kind: string
  readonly written: string | null
}

interface ColumnRow {
  readonly table: string
  readonly name: string
  readonly written: string
  readonly required: number
  readonly standard: string | null
  readonly place: number
  readonly hidden: number
}

interface KeyRow {
  readonly table: string
  readonly name: string
  readonly column: string
}

interface ReferenceRow {
  readonly table: string
  readonly id: number
  readonly to: string
  readonly from: string
  readonly toColumn: string | null
  readonly deleted: string
}

const TABLES = `SELECT l.name AS "table", l.type AS "kind", s.sql AS "written" FROM pragma_table_list l
JOIN sqlite_schema s ON s.name = l.name WHERE l.schema = 'main' AND l.type IN ('table', 'view') AND l.name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
ORDER BY l.name`

const OWN = `pragma_table_list l WHERE l.schema = 'main' AND l.type IN ('table', 'view')`

const COLUMNS = `SELECT l.name AS "table", c.name AS "name", c.type AS "written", c."notnull" AS "required", c.dflt_value AS "standard",
c.pk AS "place", c.hidden AS "hidden" FROM ${OWN.replace(' WHERE', ', pragma_table_xinfo(l.name) c WHERE')} AND c.hidden <> 1 ORDER BY l.name, c.cid`

const KEYS = `SELECT l.name AS "table", i.name AS "name", k.name AS "column"
FROM ${OWN.replace(' WHERE', ', pragma_index_list(l.name) i, pragma_index_info(i.name) k WHERE')} AND i."unique" = 1 AND i.partial = 0 AND i.origin <> 'pk'
AND NOT EXISTS (SELECT 1 FROM pragma_index_info(i.name) e WHERE e.name IS NULL) ORDER BY l.name, i.seq, k.seqno`

const TOLD = `SELECT l.name AS "table", s.sql AS "said" FROM ${OWN.replace(' WHERE', ', pragma_index_list(l.name) i JOIN sqlite_schema s ON s.name = i.name WHERE')}
AND i."unique" = 1 AND (i.partial = 1 OR EXISTS (SELECT 1 FROM pragma_index_info(i.name) e WHERE e.name IS NULL)) ORDER BY i.name`

const REFERENCES = `SELECT l.name AS "table", f.id AS "id", f."table" AS "to", f."from" AS "from", f."to" AS "toColumn", f.on_delete AS "deleted"
FROM ${OWN.replace(' WHERE', ', pragma_foreign_key_list(l.name) f WHERE')} ORDER BY l.name, f.id, f.seq`

/** What values have to look like to be of a type: SQLite itself takes any. */
const LOOKS: Partial<Readonly<Record<FieldType, string>>> = {
  boolean: `typeof(v) = 'integer' AND v IN (0, 1)`,
  integer: `typeof(v) = 'integer' AND abs(v) <= 9007199254740991`,
  bigInteger: `typeof(v) = 'integer'`,
  float: `typeof(v) IN ('integer', 'real') AND abs(v) < 9e999`,
  text: `typeof(v) = 'text'`,
  uuid: `typeof(v) = 'text' AND length(v) = 36 AND v = lower(v) AND v GLOB '????????-????-????-????-????????????'`,
  timestamp: `typeof(v) = 'text' AND v >= '1' AND v GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]T[0-9][0-9]:[0-9][0-9]:[0-9][0-9].[0-9][0-9][0-9]*Z'`,
  date: `typeof(v) = 'text' AND v >= '1' AND v GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]'`,
  time: `typeof(v) = 'text' AND v < '24' AND v GLOB '[0-9][0-9]:[0-9][0-9]:[0-9][0-9]'`,
  bytes: `typeof(v) = 'blob'`,
  json: `json_valid(v)`,
}

/** What a declared type promises, the best first; what the values themselves then look like decides. */
const DECLARED: readonly (readonly [RegExp, readonly FieldType[]])[] = [
  [/BOOL/i, ['boolean', 'integer', 'text']],
  [/TIMESTAMP|DATETIME/i, ['timestamp', 'text', 'integer', 'float']],
  [/DATE/i, ['date', 'timestamp', 'text', 'integer']],
  [/TIME/i, ['time', 'text', 'integer']],
  [/JSON/i, ['json', 'text']],
  [/UUID|GUID/i, ['uuid', 'text']],
  [/INT/i, ['integer', 'bigInteger', 'float', 'text']],
  [/CHAR|CLOB|TEXT/i, ['text', 'integer', 'float']],
  [/REAL|FLOA|DOUB|NUM|DEC/i, ['float', 'text']],
  [/BLOB|^$/i, ['bytes', 'text', 'integer', 'float']],
]

/** The first of these types that all values look like, none where no type holds them all. */
async function lookOf(ask: Ask, table: string, column: string, types: readonly FieldType[]): Promise<Held> {
  const counts = [...new Set([...types, 'timestamp' as const])].map(
    (type) => `count(*) FILTER (WHERE ${LOOKS[type] ?? '1'}) AS ${sqlite.identifier(type)}`,
  )
  const values = `SELECT ${sqlite.identifier(column)} AS v FROM ${sqlite.identifier(table)} WHERE ${sqlite.identifier(column)} IS NOT NULL LIMIT ${LOOKED_AT}`
  const [row] = await ask<Record<string, number>>(`SELECT count(*) AS "all", ${counts.join(', ')} FROM (${values})`)
  const all = row?.['all'] ?? 0
  // A text that is always a moment, is one.
  if (types[0] === 'text' && all > 0 && row?.['timestamp'] === all) return { shape: { type: 'timestamp' } }
  const found = types.find((type) => row?.[type] === all)
  const [promised] = types
  if (!found || !promised) return { remark: 'has values of several kinds' }
  const shape: Shape = { type: found }
  return found === promised || promised === 'bytes'
    ? { shape }
    : { shape, remark: `its values are no ${promised} as it is stored here` }
}

/** Whether the database fills in moments as it writes them itself, with a blank and no zone. */
const isOwnMoment = ({ standard }: ColumnRow): boolean => /CURRENT_|datetime\s*\(/i.test(standard ?? '')

/** Reads what SQLite says of a database, and what the values look like, since its columns take any. */
export async function readSqlite(ask: Ask): Promise<readonly CatalogueTable[]> {
  const tables = await ask<TableRow>(TABLES)
  const columnsOf = byTable(await ask<ColumnRow>(COLUMNS))
  const keysOf = byTable(await ask<KeyRow>(KEYS))
  const referencesOf = byTable(await ask<ReferenceRow>(REFERENCES))
  const toldOf = byTable(await ask<{ readonly table: string; readonly said: string }>(TOLD))
  const read = []
  for (const { table, kind, written } of tables) {
    const columns = columnsOf(table)
    const conditions = [...(written ?? '').matchAll(/CHECK\s*(\((?:[^()]|\([^()]*\))*\))/gi)].map(
      ([, said = '']) => said,
    )
    const key = columns.filter(({ place }) => place > 0).sort((left, right) => left.place - right.place)
    // SQLite numbers what is called so, and nothing else.
    const numbers = (column: ColumnRow) => key.length === 1 && column.place === 1 && /^INTEGER$/i.test(column.written)
    const held = []
    for (const column of columns) {
      const [, types = ['text' as const]] = DECLARED.find(([like]) => like.test(column.written)) ?? []
      const look = await lookOf(
        ask,
        table,
        column.name,
        types.filter((type) => type !== 'timestamp' || !isOwnMoment(column)),
      )
      held.push({
        name: column.name,
        type: column.written,
        ...chosen(look, column.name, conditions),
        ...marked({ isOptional: column.required === 0 && column.place === 0, isNumbered: numbers(column) }),
        ...(column.hidden > 1
          ? { filled: 'computed' as const }
          : column.standard !== null && column.standard.toUpperCase() !== 'NULL' && { filled: 'default' as const }),
      })
    }
    const remarks = toldOf(table).map(({ said }) => toldBy(said.replace(/^.*?\sON\s+[^(]*/is, 'a unique index on ')))
    read.push({
      name: table,
      ...marked({ isView: kind === 'view' }),
      columns: held,
      key: key.map(({ name }) => name),
      uniques: [...grouped(keysOf(table), ({ name }) => name).values()].map((rows) => rows.map(({ column }) => column)),
      references: [...grouped(referencesOf(table), ({ id }) => String(id)).values()].map((rows) => ({
        columns: rows.map(({ from }) => from),
        table:
          tables.find((each) => each.table.toLowerCase() === rows[0]?.to.toLowerCase())?.table ??
          (rows[0]?.to as string),
        to: rows.flatMap(({ to, toColumn }) => toColumn ?? keyOf(columnsOf(to))),
        ...onDelete(rows[0]?.deleted ?? ''),
      })),
      ...(remarks.length > 0 && { remarks }),
    })
  }
  return read
}

const keyOf = (columns: readonly ColumnRow[]): readonly string[] =>
  columns.filter(({ place }) => place > 0).map(({ name }) => name)
