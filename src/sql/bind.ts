import { valueWithoutRecord } from '../decide/index.js'
import { isMissing, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Dialect } from './dialect.js'
import type { Slot } from './fragment.js'

/** Where the values of a statement's slots come from. */
export interface Bindings {
  readonly caller: Caller
  readonly now: Date
  /** Values given with the request, by name; a missing one is NULL. */
  readonly given?: Readonly<Record<string, unknown>>
}

/** The values for a statement's placeholders, as the driver takes them. */
export function bind(
  dialect: Dialect,
  slots: readonly Slot[],
  { caller, now, given = {} }: Bindings,
): readonly unknown[] {
  return slots.map(({ source, shape }) => {
    const value = source.kind === 'given' ? given[source.name] : valueWithoutRecord(source, caller, now)
    return isMissing(value) ? null : dialect.toDriver(shape, value as Value)
  })
}
