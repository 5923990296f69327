/** A record in memory: values by field, missing ones `null` or left out. */
export type MemoryRecord = Readonly<Record<string, unknown>>

/** All records in memory, by table. */
export type Data = Readonly<Record<string, readonly MemoryRecord[]>>

/** Finds the records of a table whose field has this value. */
export type Lookup = (table: string, field: string) => (value: unknown) => readonly MemoryRecord[]

/**
 * Indexes data by whichever fields are asked for, on first use.
 * The data must not change while the lookup is in use.
 */
export function lookupIn(data: Data): Lookup {
  const indexes = new Map<string, Index>()
  return (table, field) => {
    const name = `${table} ${field}`
    let index = indexes.get(name)
    return (value) => {
      index ??= indexes.get(name)
      if (!index) indexes.set(name, (index = indexOf(Object.hasOwn(data, table) ? (data[table] ?? []) : [], field)))
      return index.get(indexKey(value)) ?? NONE
    }
  }
}

type Index = ReadonlyMap<unknown, readonly MemoryRecord[]>

const NONE: readonly MemoryRecord[] = []

function indexOf(records: readonly MemoryRecord[], field: string): Index {
  const index = new Map<unknown, MemoryRecord[]>()
  for (const record of records) {
    const at = indexKey(record[field])
    const found = index.get(at)
    if (found) found.push(record)
    else index.set(at, [record])
  }
  return index
}

const indexKey = (value: unknown): unknown => (value instanceof Date ? value.getTime() : value)
