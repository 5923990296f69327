/** A record with the key it goes by. */
export type Keyed = ReadonlyMap<string, Readonly<Record<string, unknown>>>

/** What the server says has changed of a list. */
export interface ListChange {
  readonly gone: readonly string[]
  readonly put: readonly { readonly key: string; readonly after: string | null; readonly record: unknown }[]
}

/**
 * A list with a change in it: what is gone is left out, and what was put stands behind the record it comes after.
 *
 * @param read what makes a record of what was sent
 */
export function changed<R>(
  list: ReadonlyMap<string, R>,
  { gone, put }: ListChange,
  read: (record: unknown) => R,
): ReadonlyMap<string, R> {
  const away = new Set([...gone, ...put.map(({ key }) => key)])
  const behind = new Map<string | null, string>()
  const records = new Map<string, R>()
  for (const { key, after, record } of put) {
    behind.set(after, key)
    records.set(key, read(record))
  }
  const result = new Map<string, R>()
  const place = (after: string | null) => {
    for (let key = behind.get(after); key !== undefined; key = behind.get(key)) result.set(key, records.get(key) as R)
  }
  place(null)
  for (const [key, record] of list) {
    if (away.has(key)) continue
    result.set(key, record)
    place(key)
  }
  return result
}
