import { fromPlain, isMissing, type Value } from '../model/index.js'
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
export function bind(dialect: Dialect, slots: readonly Slot[], bindings: Bindings): readonly unknown[] {
  return slots.map(({ source, shape }) => {
    const value = valueOf({ source, shape }, bindings)
    return isMissing(value) ? null : dialect.toDriver(shape, value as Value)
  })
}

function valueOf({ source }: Slot, { caller, now, given = {} }: Bindings): unknown {
  switch (source.kind) {
    case 'caller':
      return source.name === 'roles' ? caller.roles : caller.attributes[source.name]
    case 'now':
      return new Date(now.getTime() + source.plusSeconds * 1000)
    case 'value':
      return fromPlain(source.shape, source.value)
    case 'given':
      return Object.hasOwn(given, source.name) ? given[source.name] : null
  }
}
