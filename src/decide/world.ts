import type { Condition, Operand } from '../condition/index.js'
import { fromPlain, isMissing, sameValue, type Value } from '../model/index.js'
import type { Caller } from '../rules/index.js'
import type { Lookup, MemoryRecord } from './data.js'

/** What a condition is evaluated against, besides the record itself. */
export interface World {
  readonly caller: Caller
  readonly now: Date
  readonly lookup: Lookup
  /** The record as it will be, for conditions on an update. */
  readonly next?: MemoryRecord
  /** The values that were sent for an update. */
  readonly sent?: MemoryRecord
}

/** What asks the world something: each is answered once, however often it is asked and of how many records. */
export class Asked {
  readonly #all: ((world: World) => unknown)[] = []
  readonly #places = new Map<string, number>()

  /** Where the answer is. */
  placeOf(asking: Condition | Operand): number {
    const what = whatIsAsked(asking)
    const at = this.#places.get(what) ?? this.#all.push(answerTo(asking)) - 1
    this.#places.set(what, at)
    return at
  }

  answeredBy(world: World): readonly unknown[] {
    const said: unknown[] = []
    for (const answer of this.#all) said.push(answer(world))
    return said
  }
}

/** Of a step, which records there are to look through; of a change, what it makes of the record; of all else, all. */
function whatIsAsked(asking: Condition | Operand): string {
  if (asking.kind === 'some') return `${asking.table} ${asking.to.field}`
  return asking.kind === 'after' || asking.kind === 'unchanged' ? asking.kind : JSON.stringify(asking)
}

/** Prepares what the world says to what asks it something; `null` to an operand that is missing. */
function answerTo(asking: Condition | Operand): (world: World) => unknown {
  switch (asking.kind) {
    case 'signedIn':
      return ({ caller }) => caller.signedIn
    case 'role':
      return ({ caller }) => asking.anyOf.some((role) => caller.roles.includes(role))
    case 'channel':
      return ({ caller }) => caller.channel !== undefined && asking.anyOf.includes(caller.channel)
    case 'some':
      return ({ lookup }) => lookup(asking.table, asking.to.field)
    case 'after':
      return nextOf
    case 'unchanged':
      return (world) => ({ ...nextOf(world), ...world.sent })
    case 'value': {
      const value = fromPlain(asking.shape, asking.value)
      return () => value
    }
    case 'now':
      return ({ now }) => new Date(now.getTime() + asking.plusSeconds * 1000)
    case 'caller':
      if (asking.name === 'roles') return ({ caller }) => (caller.signedIn ? caller.roles : null)
      return ({ caller: { attributes } }) =>
        Object.hasOwn(attributes, asking.name) ? (attributes[asking.name] ?? null) : null
    case 'given':
      return () => {
        throw new TypeError('A value that comes with a request is known to databases only.')
      }
    case 'always':
    case 'never':
    case 'all':
    case 'any':
    case 'not':
    case 'isSet':
    case 'compare':
    case 'may':
    case 'field':
    case 'old':
      throw new TypeError(`The world has no answer to ${asking.kind}.`)
  }
}

function nextOf({ next }: World): MemoryRecord {
  if (next) return next
  throw new TypeError('There is no record after a change.')
}

/** Whether a change leaves a field as it is. */
export function unchangedIn(field: string, before: MemoryRecord | undefined, next: MemoryRecord): boolean {
  const [was, is] = [before?.[field], next[field]]
  return isMissing(was) ? isMissing(is) : !isMissing(is) && sameValue(was as Value, is as Value)
}
