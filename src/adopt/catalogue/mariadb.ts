import type { Shape } from '../../model/index.js'
import { mariadb } from '../../sql/index.js'
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
  quotedIn,
  toldBy,
  unheld,
  unheldFor,
} from './catalogue.js'
import { lookedThrough, type Oddity } from './values.js'

interface ColumnRow {
  readonly table: string
  readonly name: string
  readonly base: string
  readonly written: string
  readonly digits: number | null
  readonly scale: number | null
  readonly optional: string
  readonly standard: string | null
  readonly extra: string
}

interface TableRow {
  readonly table: string
  readonly kind: string
  readonly engine: string | null
  readonly lasting: number
}

interface KeyRow {
  readonly table: string
  readonly name: string
  readonly columns: string
  readonly partly: number
}

interface ReferenceRow {
  readonly table: string
  readonly columns: string
  readonly schema: string
  readonly own: number
  readonly to: string
  readonly toColumns: string
  readonly deleted: string
}

interface CheckRow {
  readonly table: string
  readonly said: string
}

const TABLES = `SELECT t.TABLE_NAME AS "table", t.TABLE_TYPE AS "kind", t.ENGINE AS "engine", COALESCE(e.TRANSACTIONS, 'NO') <> 'YES' AS "lasting"
FROM information_schema.TABLES t LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE IN ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED') ORDER BY t.TABLE_NAME`

const COLUMNS = `SELECT TABLE_NAME AS "table", COLUMN_NAME AS "name", DATA_TYPE AS "base", COLUMN_TYPE AS "written",
NUMERIC_PRECISION AS "digits", NUMERIC_SCALE AS "scale", IS_NULLABLE AS "optional", COLUMN_DEFAULT AS "standard", EXTRA AS "extra"
FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME, ORDINAL_POSITION`

const KEYS = `SELECT TABLE_NAME AS "table", INDEX_NAME AS "name", CAST(JSON_ARRAYAGG(COLUMN_NAME ORDER BY SEQ_IN_INDEX) AS CHAR) AS "columns",
MAX(SUB_PART IS NOT NULL) AS "partly"
FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = DATABASE() AND NON_UNIQUE = 0 GROUP BY TABLE_NAME, INDEX_NAME`

const REFERENCES = `SELECT k.TABLE_NAME AS "table", CAST(JSON_ARRAYAGG(k.COLUMN_NAME ORDER BY k.ORDINAL_POSITION) AS CHAR) AS "columns",
MAX(k.REFERENCED_TABLE_SCHEMA) AS "schema", MAX(k.REFERENCED_TABLE_SCHEMA) = DATABASE() AS "own", MAX(k.REFERENCED_TABLE_NAME) AS "to",
CAST(JSON_ARRAYAGG(k.REFERENCED_COLUMN_NAME ORDER BY k.ORDINAL_POSITION) AS CHAR) AS "toColumns", MAX(r.DELETE_RULE) AS "deleted"
FROM information_schema.KEY_COLUMN_USAGE k JOIN information_schema.REFERENTIAL_CONSTRAINTS r
ON r.CONSTRAINT_SCHEMA = k.TABLE_SCHEMA AND r.TABLE_NAME = k.TABLE_NAME AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME
WHERE k.TABLE_SCHEMA = DATABASE() AND k.REFERENCED_TABLE_NAME IS NOT NULL GROUP BY k.TABLE_NAME, k.CONSTRAINT_NAME`

const CHECKS = `SELECT TABLE_NAME AS "table", CHECK_CLAUSE AS "said" FROM information_schema.CHECK_CONSTRAINTS
WHERE CONSTRAINT_SCHEMA = DATABASE()`

const TYPES: Readonly<Record<string, Shape['type']>> = {
  tinyint: 'integer',
  smallint: 'integer',
  mediumint: 'integer',
  int: 'integer',
  year: 'integer',
  bigint: 'bigInteger',
  double: 'float',
  char: 'text',
  varchar: 'text',
  tinytext: 'text',
  text: 'text',
  mediumtext: 'text',
  longtext: 'text',
  uuid: 'uuid',
  date: 'date',
  time: 'time',
  datetime: 'timestamp',
  timestamp: 'timestamp',
  binary: 'bytes',
  varbinary: 'bytes',
  tinyblob: 'bytes',
  blob: 'bytes',
  mediumblob: 'bytes',
  longblob: 'bytes',
}

function heldIn({ name, base, written, digits, scale, extra }: ColumnRow, conditions: readonly string[]): Held {
  if (/^(tinyint|bit)\(1\)/.test(written)) return { shape: { type: 'boolean' } }
  if (base === 'enum') return { shape: { type: 'choice', choices: quotedIn(written) } }
  if (base === 'decimal') return exactNumber(Number(digits), Number(scale))
  if (base === 'bigint' && /auto_increment/.test(extra)) return { shape: { type: 'integer' } }
  if (base === 'longtext' && conditions.some((each) => isJson(each, name))) return { shape: { type: 'json' } }
  if (base === 'float') return unheld('has 32 bits, and compares otherwise than the numbers of JavaScript')
  const type = TYPES[base]
  if (!type) return unheld(`is of type ${written}, which no field holds`)
  return { shape: { type } }
}

/** What a column can hold of such a type: MariaDB that is not strict has moments that are none, and truths of 256 kinds. */
const ODDITIES: Partial<Readonly<Record<Shape['type'], (column: string) => Oddity>>> = {
  boolean: (column) => ({
    where: `${column} NOT IN (0, 1)`,
    held: { shape: { type: 'integer' }, remark: 'has other values than 0 and 1' },
  }),
  bigInteger: (column) => ({
    where: `${column} > 9223372036854775807`,
    held: unheldFor('numbers of 64 bits without a sign'),
  }),
  timestamp: notOnCalendar,
  date: notOnCalendar,
  time: (column) => ({
    where: `${column} < '00:00:00' OR ${column} >= '24:00:00'`,
    held: unheldFor('spans that are no time of day'),
  }),
}

function notOnCalendar(column: string): Oddity {
  return {
    where: `${column} < '1000-01-01' OR MONTH(${column}) = 0 OR DAYOFMONTH(${column}) = 0`,
    held: unheldFor('what is no day, such as 0000-00-00,'),
  }
}

const isJson = (condition: string, column: string): boolean =>
  condition.toLowerCase().replaceAll('`', '') === `json_valid(${column.toLowerCase()})`

/** Reads what MariaDB says of the database that is in use. */
export async function readMariadb(ask: Ask): Promise<readonly CatalogueTable[]> {
  const tables = await ask<TableRow>(TABLES)
  const columnsOf = byTable(await ask<ColumnRow>(COLUMNS))
  const keysOf = byTable(await ask<KeyRow>(KEYS))
  const referencesOf = byTable(await ask<ReferenceRow>(REFERENCES))
  const checksOf = byTable(await ask<CheckRow>(CHECKS))
  const read: CatalogueTable[] = []
  for (const { table, kind, engine, lasting } of tables) {
    const conditions = checksOf(table).map(({ said }) => said)
    const isView = kind === 'VIEW'
    const keys = keysOf(table).filter(({ name }) => name !== 'PRIMARY')
    const suspects = columnsOf(table).map((row) => {
      const column = columnFrom(row, conditions)
      const named = mariadb.identifier(row.name)
      return { column, named, oddity: column.shape && ODDITIES[column.shape.type]?.(named) }
    })
    const remarks = [
      ...(!isView && Number(lasting) === 1
        ? [`is kept by ${engine}, which knows no transactions: it is read, and not written`]
        : []),
      ...keys
        .filter(({ partly }) => Number(partly) === 1)
        .map(({ name, columns }) => toldBy(`${name}, unique by the beginning of ${namesIn(columns).join(', ')}`)),
    ]
    read.push({
      name: table,
      ...marked({ isView }),
      columns: isView
        ? suspects.map(({ column }) => column)
        : await lookedThrough(ask, mariadb.identifier(table), suspects),
      key: keysOf(table)
        .filter(({ name }) => name === 'PRIMARY')
        .flatMap(({ columns }) => namesIn(columns)),
      uniques: keys.filter(({ partly }) => Number(partly) === 0).map(({ columns }) => namesIn(columns)),
      references: referencesOf(table).map(({ columns, schema, own, to, toColumns, deleted }) => ({
        columns: namesIn(columns),
        ...(Number(own) !== 1 && { schema }),
        table: to,
        to: namesIn(toColumns),
        ...onDelete(deleted),
      })),
      ...(remarks.length > 0 && { remarks }),
    })
  }
  return read
}

const columnFrom = (row: ColumnRow, conditions: readonly string[]): CatalogueColumn => ({
  name: row.name,
  type: row.written,
  ...chosen(heldIn(row, conditions), row.name, conditions),
  ...marked({ isOptional: row.optional === 'YES', isNumbered: /auto_increment/.test(row.extra) }),
  ...filledIn(row),
})

function filledIn({ extra, standard }: ColumnRow): { readonly filled?: 'default' | 'computed' } {
  // What every change sets anew, cannot be told beforehand either.
  if (/GENERATED|on update/i.test(extra)) return { filled: 'computed' }
  return standard === null || standard === 'NULL' ? {} : { filled: 'default' }
}
