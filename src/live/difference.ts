import { hash } from 'node:crypto'

/** A record as it is sent. */
export type SentRecord = Readonly<Record<string, unknown>>

/** A list as it was sent: the keys in their order, each with the mark of what its record was. */
export interface Snapshot {
  readonly marks: ReadonlyMap<string, string>
  /** The mark of all of it. */
  readonly mark: string
}

/** What makes of one list another. */
export interface Difference {
  /** The keys of what is not in it any more. */
  readonly gone: readonly string[]
  /** What is new, or another, or elsewhere: in their order, each with the key of the record it comes after. */
  readonly put: readonly { readonly key: string; readonly after: string | null; readonly record: SentRecord }[]
}

const markOf = (text: string): string => hash('sha256', text, 'base64url').slice(0, 16)

/** The snapshot of a list. */
export function snapshotOf(records: ReadonlyMap<string, SentRecord>, mark: string): Snapshot {
  const marks = new Map<string, string>()
  for (const [key, record] of records) marks.set(key, markOf(JSON.stringify(record)))
  return { marks, mark }
}

/**
 * What makes of a list that was sent the list that is there now.
 *
 * @returns nothing where it is best sent anew, since records that are the same stand in another order
 */
export function differenceOf(
  before: Snapshot,
  after: Snapshot,
  records: ReadonlyMap<string, SentRecord>,
): Difference | undefined {
  const isSame = (key: string) => before.marks.get(key) === after.marks.get(key)
  const stayed = [...before.marks.keys()].filter((key) => after.marks.has(key) && isSame(key))
  const staying = [...after.marks.keys()].filter((key) => before.marks.has(key) && isSame(key))
  if (stayed.some((key, at) => key !== staying[at])) return undefined
  const gone = [...before.marks.keys()].filter((key) => !after.marks.has(key))
  const put: Difference['put'][number][] = []
  let last: string | null = null
  for (const [key, record] of records) {
    if (!before.marks.has(key) || !isSame(key)) put.push({ key, after: last, record })
    last = key
  }
  return { gone, put }
}
