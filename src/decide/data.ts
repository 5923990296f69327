/** A record in memory: values by field, missing ones `null` or left out. */
export type MemoryRecord = Readonly<Record<string, unknown>>

/** All records in memory, by table. */
export type Data = Readonly<Record<string, readonly MemoryRecord[]>>

/** Finds the records of a table whose field has this value. */
export type Lookup = (table: string, field: string) => (value: unknown) => readonly MemoryRecord[]

/**
 * Finds records in data: the first few times by going through a table, then by an index on the field asked for, which takes
 * as long to make as some searches. The data must not change while the lookup is in use.
 */
export function lookupIn(data: Data): Lookup {
  // A handful: going through them is quicker than joining two names to one.
  const finders: { readonly table: string; readonly field: string; readonly find: ReturnType<Lookup> }[] = []
  return (table, field) => {
    for (const each of finders) if (each.table === table && each.field === field) return each.find
    const find = finderIn(Object.hasOwn(data, table) ? (data[table] ?? NONE) : NONE, field)
    finders.push({ table, field, find })
    return find
  }
}

/** How many searches take as long as an index. */
const SEARCHES = 8

function finderIn(records: readonly MemoryRecord[], field: string): ReturnType<Lookup> {
  let searches = 0
  let index: Index | undefined
  // Several rules mostly look for the same.
  let last: unknown
  let found = NONE
  return (value) => {
    if (value === last) return found
    last = value
    if ((searches += 1) <= SEARCHES && !(value instanceof Date)) found = search(records, field, value)
    else found = (index ??= indexOf(records, field)).get(indexKey(value)) ?? NONE
    return found
  }
}

function search(records: readonly MemoryRecord[], field: string, value: unknown): readonly MemoryRecord[] {
  let found: MemoryRecord[] | undefined
  for (const record of records) {
    if (record[field] !== value) continue
    if (found) found.push(record)
    else found = [record]
  }
  return found ?? NONE
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
