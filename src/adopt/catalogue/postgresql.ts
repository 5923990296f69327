import type { Shape } from '../../model/index.js'
import { postgresql } from '../../sql/index.js'
import {
  type Ask,
  byTable,
  type CatalogueColumn,
  type CatalogueTable,
  chosen,
  exactNumber,
  type Held,
  marked,
  namesIn,
  onDelete,
  toldBy,
  unheld,
  unheldFor,
} from './catalogue.js'
import { lookedThrough, type Oddity } from './values.js'

interface TableRow {
  readonly table: string
  readonly schema: string
  readonly own: boolean
  readonly name: string
  readonly kind: string
  readonly readable: boolean
  readonly inherited: boolean
}

interface ColumnRow {
  readonly table: string
  readonly name: string
  readonly written: string
  readonly base: string
  readonly kind: string
  readonly modifier: number
  readonly required: boolean
  readonly computed: boolean
  readonly numbered: boolean
  readonly filled: boolean
  readonly words: string | null
}

interface ConstraintRow {
  readonly table: string
  readonly kind: string
  readonly columns: string
  readonly said: string
  readonly to: string | null
  readonly toColumns: string
  readonly deleted: string | null
}

// Not those of the system, nor of extensions, nor the parts of a table in parts.
const TABLES = `SELECT t.oid::text AS "table", n.nspname AS "schema", n.nspname = current_schema() AS "own", t.relname AS "name",
t.relkind::text AS "kind", has_table_privilege(t.oid, 'SELECT') AS "readable",
t.relkind = 'r' AND EXISTS (SELECT 1 FROM pg_inherits i WHERE i.inhparent = t.oid) AS "inherited"
FROM pg_class t JOIN pg_namespace n ON n.oid = t.relnamespace
WHERE t.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT t.relispartition
AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND has_schema_privilege(n.oid, 'USAGE')
AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = t.oid AND d.deptype = 'e')
ORDER BY n.nspname <> current_schema(), n.nspname, t.relname`

const COLUMNS = `SELECT a.attrelid::text AS "table", a.attname AS "name", format_type(a.atttypid, a.atttypmod) AS "written",
COALESCE(b.typname, y.typname)::text AS "base", COALESCE(b.typtype, y.typtype)::text AS "kind",
CASE WHEN b.oid IS NULL THEN a.atttypmod ELSE y.typtypmod END AS "modifier",
a.attnotnull OR y.typnotnull AS "required", a.attgenerated <> '' AS "computed",
a.attidentity <> '' OR COALESCE(pg_get_expr(d.adbin, d.adrelid), '') ~ '^nextval' AS "numbered", d.oid IS NOT NULL AS "filled",
(SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder)::text FROM pg_enum e WHERE e.enumtypid = COALESCE(b.oid, y.oid)) AS "words"
FROM pg_attribute a JOIN pg_class t ON t.oid = a.attrelid JOIN pg_type y ON y.oid = a.atttypid
LEFT JOIN pg_type b ON y.typtype = 'd' AND b.oid = y.typbasetype
LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE a.attnum > 0 AND NOT a.attisdropped AND t.relkind IN ('r', 'p', 'v', 'm', 'f')
ORDER BY a.attrelid, a.attnum`

const NAMES = (numbers: string, table: string) =>
  `(SELECT json_agg(a.attname ORDER BY k.at)::text FROM unnest(${numbers}) WITH ORDINALITY AS k (number, at) JOIN pg_attribute a ON a.attrelid = ${table} AND a.attnum = k.number)`

// A column of which only one row may have no value is not unique() as a model has it.
const SAYABLE = `i.indpred IS NULL AND i.indexprs IS NULL AND NOT COALESCE((to_jsonb(i) ->> 'indnullsnotdistinct')::boolean, false)`

const CONSTRAINTS = `SELECT c.conrelid::text AS "table", c.contype::text AS "kind", COALESCE(${NAMES('c.conkey', 'c.conrelid')}, '[]') AS "columns",
CASE WHEN c.contype = 'c' THEN pg_get_expr(c.conbin, c.conrelid) ELSE '' END AS "said", c.confrelid::text AS "to",
COALESCE(${NAMES('c.confkey', 'c.confrelid')}, '[]') AS "toColumns",
CASE c.confdeltype WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' WHEN 'd' THEN 'SET DEFAULT' ELSE '' END AS "deleted"
FROM pg_constraint c WHERE c.conrelid <> 0 AND c.contype IN ('p', 'f', 'c')
UNION ALL SELECT i.indrelid::text, 'u', ${NAMES('i.indkey[0:i.indnkeyatts - 1]', 'i.indrelid')}, '', NULL, '[]', ''
FROM pg_index i WHERE i.indisunique AND NOT i.indisprimary AND i.indisvalid AND ${SAYABLE}
UNION ALL SELECT i.indrelid::text, 'told', '[]', regexp_replace(pg_get_indexdef(i.indexrelid), '^.* USING \\S+ ', 'a unique index on '), NULL, '[]', ''
FROM pg_index i WHERE i.indisunique AND NOT i.indisprimary AND i.indisvalid AND NOT (${SAYABLE})
UNION ALL SELECT c.conrelid::text, 'told', '[]', pg_get_constraintdef(c.oid), NULL, '[]', '' FROM pg_constraint c WHERE c.contype = 'x'`

const TYPES: Readonly<Record<string, Shape['type']>> = {
  int2: 'integer',
  int4: 'integer',
  int8: 'bigInteger',
  float8: 'float',
  bool: 'boolean',
  text: 'text',
  varchar: 'text',
  bpchar: 'text',
  citext: 'text',
  uuid: 'uuid',
  date: 'date',
  time: 'time',
  timestamp: 'timestamp',
  timestamptz: 'timestamp',
  bytea: 'bytes',
  json: 'json',
  jsonb: 'json',
}

const LISTS: Readonly<Record<string, NonNullable<Shape['item']>>> = {
  _text: 'text',
  _varchar: 'text',
  _citext: 'text',
  _int2: 'integer',
  _int4: 'integer',
  _int8: 'bigInteger',
  _uuid: 'uuid',
}

function heldIn({ base, kind, modifier, words, numbered, written }: ColumnRow): Held {
  if (kind === 'e') return { shape: { type: 'choice', choices: namesIn(words ?? '[]') } }
  // A sequence never gets so far that JavaScript's numbers end.
  if (base === 'int8' && numbered) return { shape: { type: 'integer' } }
  if (base === 'numeric') {
    const limits = modifier < 4 ? undefined : modifier - 4
    return limits === undefined ? exactNumber(undefined, undefined) : exactNumber(limits >> 16, limits & 0x7ff)
  }
  const item = LISTS[base]
  if (item) return { shape: { type: 'list', item } }
  const type = TYPES[base]
  if (type) return { shape: { type } }
  if (base === 'float4') return unheld('has 32 bits, and compares otherwise than the numbers of JavaScript')
  return unheld(`is of type ${written}, which no field holds`)
}

const notOnCalendar = (column: string): Oddity => ({
  where: `NOT isfinite(${column}) OR ${column} < '1000-01-01' OR ${column} >= '10000-01-01'`,
  held: unheldFor('infinity, or years of other than four digits,'),
})

const noNumber = (column: string): Oddity => ({ where: `${column} = 'NaN'`, held: unheldFor('what is no number') })

/** What a column can hold of such a type that no other database has. */
const ODDITIES: Partial<Readonly<Record<Shape['type'], (column: string) => Oddity>>> = {
  timestamp: notOnCalendar,
  date: notOnCalendar,
  float: (column) => ({ where: `abs(${column}) = 'Infinity'`, held: unheldFor('infinity') }),
  time: (column) => ({ where: `${column} = '24:00'`, held: unheldFor('24:00, which is no time of day,') }),
  decimal: noNumber,
  list: (column) => ({
    where: `CASE WHEN array_ndims(${column}) > 1 THEN true ELSE array_position(${column}, NULL) IS NOT NULL END`,
    held: unheldFor('lists in lists, or with missing items,'),
  }),
}

function suspected(column: CatalogueColumn, { base }: ColumnRow) {
  const { shape, name } = column
  const look = base === 'numeric' ? noNumber : shape && ODDITIES[shape.type]
  return { column, named: postgresql.identifier(name), oddity: shape && look?.(postgresql.identifier(name)) }
}

/** Reads what PostgreSQL says of itself. */
export async function readPostgresql(ask: Ask): Promise<readonly CatalogueTable[]> {
  const tables = await ask<TableRow>(TABLES)
  const columnsOf = byTable(await ask<ColumnRow>(COLUMNS))
  const constraintsOf = byTable(await ask<ConstraintRow>(CONSTRAINTS))
  const placeOf = new Map(tables.map(({ table, schema, own, name }) => [table, { ...(!own && { schema }), name }]))
  const read: CatalogueTable[] = []
  for (const { table, schema, own, name, kind, readable, inherited } of tables) {
    const constraints = constraintsOf(table)
    const ofKind = (wanted: string) => constraints.filter((each) => each.kind === wanted)
    const conditions = ofKind('c').map(({ said }) => said)
    // What holds of its own rows does not hold of those that tables which inherit from it have besides.
    const unique = (wanted: string) => (inherited ? [] : ofKind(wanted).map(({ columns }) => namesIn(columns)))
    const suspects = columnsOf(table).map((row) => suspected(columnFrom(row, conditions), row))
    const isTable = kind === 'r' || kind === 'p'
    const remarks = ofKind('told').map(({ said }) => toldBy(said))
    read.push({
      ...(!own && { schema }),
      name,
      ...marked({ isView: kind === 'v' || kind === 'm', isClosed: !readable, isInherited: inherited }),
      columns:
        isTable && readable
          ? await lookedThrough(ask, `${postgresql.identifier(schema)}.${postgresql.identifier(name)}`, suspects)
          : suspects.map(({ column }) => column),
      key: unique('p').flat(),
      uniques: unique('u'),
      references: ofKind('f').flatMap(({ columns, to, toColumns, deleted }) => {
        const place = placeOf.get(to ?? '')
        if (!place) return []
        const { schema: other, name: target } = place as { schema?: string; name: string }
        return [
          {
            columns: namesIn(columns),
            ...(other !== undefined && { schema: other }),
            table: target,
            to: namesIn(toColumns),
            ...onDelete(deleted ?? ''),
          },
        ]
      }),
      ...(remarks.length > 0 && { remarks }),
    })
  }
  return read
}

const columnFrom = (row: ColumnRow, conditions: readonly string[]): CatalogueColumn => ({
  name: row.name,
  type: row.written,
  ...chosen(heldIn(row), row.name, conditions),
  ...marked({ isOptional: !row.required, isNumbered: row.numbered }),
  ...(row.computed ? { filled: 'computed' as const } : row.filled && { filled: 'default' as const }),
})
