import { fieldOf, type ModelData, tableOf } from 'pachter/model'
import { idsFor, strangerFor } from './values.js'

type Row = Readonly<Record<string, unknown>>

/** The fields of a table's key. */
export const keyOf = (model: ModelData, table: string): readonly string[] => tableOf(model, table).key

/** A record's key as an application gives it: the value itself where it is one, or else the fields. */
export function keyIn(model: ModelData, table: string, row: Row): unknown {
  const [first = '', ...more] = keyOf(model, table)
  return more.length === 0 ? row[first] : withKey(model, table, row)
}

/** The fields of a key that is given as an application gives it. */
export function withKey(model: ModelData, table: string, key: unknown): Row {
  const names = keyOf(model, table)
  return Object.fromEntries(names.map((name) => [name, names.length === 1 && !isRow(key) ? key : (key as Row)[name]]))
}

const isRow = (key: unknown): key is Row => typeof key === 'object' && key !== null

/** Whether a record has this key. */
export const isAt = (model: ModelData, table: string, row: Row, key: unknown): boolean =>
  Object.entries(withKey(model, table, key)).every(([name, value]) => row[name] === value)

/** A record without its key. */
export const withoutKey = (model: ModelData, table: string, row: Row): Row =>
  Object.fromEntries(Object.entries(row).filter(([name]) => !keyOf(model, table).includes(name)))

/** Every key that a record can have. */
export function keysFor(model: ModelData, table: string): readonly unknown[] {
  const rows = keyOf(model, table).reduce<readonly Row[]>(
    (all, name) => all.flatMap((row) => idsFor(fieldOf(model, table, name)).map((id) => ({ ...row, [name]: id }))),
    [{}],
  )
  return rows.map((row) => keyIn(model, table, row))
}

/** A key that no record has, which differs from this one in its last part alone. */
export function strangerTo(model: ModelData, table: string, row: Row = {}): unknown {
  const names = keyOf(model, table)
  const parts = names.map((name, at) => {
    const field = fieldOf(model, table, name)
    return [name, at === names.length - 1 ? strangerFor(field) : (row[name] ?? idsFor(field)[0])]
  })
  return keyIn(model, table, Object.fromEntries(parts) as Row)
}

/** A record by its key, as text, to sort by or to look it up. */
export const textOfKey = (model: ModelData, table: string, row: Row): string =>
  JSON.stringify(keyOf(model, table).map((name) => row[name]))
