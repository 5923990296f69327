import type { FieldData } from '../../model/index.js'
import { digits } from '../dialect.js'
import { type Fragment, sql } from '../fragment.js'
import { booleanRead, bytesRead, decimalRead, listRead, listWritten, type StoredTypes } from '../stored.js'

/** Numbers beyond 2^53 and moments would depend on how the pool was set up; text does not. */
const asText = (column: Fragment): Fragment => sql`CAST(${column} AS CHAR)`

const number = {
  column: ({ generated }: FieldData) => (generated ? 'BIGINT AUTO_INCREMENT' : 'BIGINT'),
  placeholder: (mark: string) => `CAST(${mark} AS SIGNED)`,
  toDriver: String,
}

/** Only a text of limited length can be a key, and 'a' and 'A' are two keys. */
const keyOr =
  (type: string) =>
  ({ key, references, unique }: FieldData): string =>
    key || references || unique ? 'VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin' : type

/** A moment as MariaDB writes it, in UTC. */
export const written = (moment: Date): string => moment.toISOString().replace('T', ' ').replace('Z', '')

/** How MariaDB stores each type. */
export const types: StoredTypes = {
  text: { column: keyOr('LONGTEXT') },
  integer: { ...number, fromDriver: (value) => Number(value) },
  bigInteger: { ...number, selected: asText, fromDriver: (value: string) => BigInt(value) },
  decimal: {
    column: ({ scale }) => `DECIMAL(18, ${digits(scale)})`,
    placeholder: (mark, { scale }) => `CAST(${mark} AS DECIMAL(18, ${digits(scale)}))`,
    selected: asText,
    fromDriver: decimalRead,
  },
  float: {
    column: () => 'DOUBLE',
    placeholder: (mark) => `CAST(${mark} AS DOUBLE)`,
    inJson: asText,
    fromDriver: Number,
  },
  boolean: {
    column: () => 'BOOLEAN',
    // What is a bit comes as bytes.
    selected: (column) => sql`${column} + 0`,
    toDriver: (value) => (value ? 1 : 0),
    fromDriver: booleanRead,
  },
  timestamp: {
    column: () => 'DATETIME(3)',
    placeholder: (mark) => `CAST(${mark} AS DATETIME(6))`,
    selected: asText,
    toDriver: written,
    fromDriver: (value: string) => new Date(`${value.replace(' ', 'T')}Z`),
  },
  date: { column: () => 'DATE', placeholder: (mark) => `CAST(${mark} AS DATE)`, selected: asText },
  time: { column: () => 'TIME', placeholder: (mark) => `CAST(${mark} AS TIME)`, selected: asText },
  uuid: { column: () => 'CHAR(36) CHARACTER SET ascii COLLATE ascii_bin', selected: asText },
  choice: { column: keyOr('VARCHAR(255)') },
  list: {
    column: () => 'LONGTEXT',
    selected: asText,
    toDriver: listWritten,
    fromDriver: listRead,
  },
  bytes: {
    column: () => 'LONGBLOB',
    placeholder: (mark) => `CAST(${mark} AS BINARY)`,
    inJson: (column) => sql`HEX(${column})`,
    toDriver: (value: Uint8Array) => Buffer.from(value),
    fromDriver: bytesRead,
  },
  json: {
    column: () => 'JSON',
    // In an UPDATE, it looks into documents of rows that are not there, and stops at what is none.
    present: (column) => sql`JSON_TYPE(IF(JSON_VALID(${column}), ${column}, 'null')) <> 'NULL'`,
    selected: asText,
    toDriver: (value) => JSON.stringify(value),
    fromDriver: (value: string) => JSON.parse(value) as unknown,
  },
}
