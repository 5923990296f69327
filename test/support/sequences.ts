// The same done to two records, one after the other.
import { givable } from './filled.js'
import { isAt, keyIn, withoutKey } from './keys.js'
import { Oracle } from './oracle.js'
import type { World } from './worlds.js'

type Row = Readonly<Record<string, unknown>>

export interface Sequence {
  readonly action: 'delete' | 'update' | 'settle'
  readonly table: string
  readonly keys: readonly [first: unknown, second: unknown]
  readonly values: Row
}

/**
 * All there are in a world.
 *
 * @param others values that fields are set to, by table: those of the first record
 */
export const sequencesOf = (
  { rulebook: { model, tables }, data }: World,
  others: Readonly<Record<string, readonly Row[]>>,
): readonly Sequence[] =>
  Object.keys(tables).flatMap((table): readonly Sequence[] => {
    const keys = (data[table] ?? []).map((row) => keyIn(model, table, row))
    const changes = Object.entries(givable(model, table, withoutKey(model, table, others[table]?.[0] ?? {})))
    const writes = changes.flatMap(([name, value]) =>
      (['update', 'settle'] as const).map((action) => ({ action, values: { [name]: value } })),
    )
    const pairs = keys.flatMap((first) => keys.filter((key) => key !== first).map((second) => [first, second] as const))
    return pairs.flatMap((each) =>
      [{ action: 'delete' as const, values: {} }, ...writes].map((write) => ({ ...write, table, keys: each })),
    )
  })

/** What comes of the second write by itself. */
export const aloneIn = (oracle: Oracle, { action, table, keys: [, second], values }: Sequence): string =>
  oracle.foretell(table, action, second, values).statuses.join()

/** What comes of the second write after the first; nothing where that would be refused. */
export function thenIn(oracle: Oracle, sequence: Sequence): string {
  const { action, table, keys, values } = sequence
  const { rulebook, data, who, now } = oracle
  const { statuses, stored } = oracle.foretell(table, action, keys[0], values)
  if (!statuses.includes(200)) return ''
  const after = (data[table] ?? []).flatMap((row) =>
    isAt(rulebook.model, table, row, keys[0]) ? (stored ? [stored] : []) : [row],
  )
  return aloneIn(new Oracle(rulebook, { ...data, [table]: after }, who, now), sequence)
}
