import {
  after,
  allOf,
  anyOf,
  type Condition,
  contains,
  never,
  normalise,
  notOf,
  operandsOf,
  rewrite,
} from '../condition/index.js'
import { parentsOf, tableOf, uniquesOf } from '../model/index.js'
import { fieldSight, leftAsIs, permission } from './permission.js'
import { type Action, type Rulebook, rulesOf, stampsFor } from './rulebook.js'
import { asTold } from './seen.js'

/**
 * What has to hold of a value that is given, so that the answer tells nothing of records the caller does not see:
 * whether a key or a unique value is taken, or whether there is a record that a reference leads to.
 */
export interface Discretion {
  readonly field: string
  /** What the answer could tell of: of a value given, that it is taken or leads somewhere; of one that is stamped, that it is taken. */
  readonly about: 'taken' | 'reference' | 'stamped'
  /** On the new record of a create; on the record before and after a change. */
  readonly that: Condition
}

/** What has to hold of the values given to these fields, and of those stamped besides, unless the rules say that it may be told. */
export function discretions(
  rulebook: Rulebook,
  table: string,
  action: Action,
  fields: readonly string[],
): readonly Discretion[] {
  if (rulesOf(rulebook, table).conflicts === 'told') return []
  const { key, fields: all } = tableOf(rulebook.model, table)
  const creating = action === 'create'
  const sightOf = (field: string) => fieldSight(rulebook, table, field, 'get')
  /** @param beside fields that it looks at as well, and that a change leaves as they are: they are not to be found out, either */
  const placed = (
    field: string,
    about: Discretion['about'],
    that: Condition,
    beside: readonly string[],
  ): Discretion => {
    if (creating) return { field, about, that }
    const same = leftAsIs(rulebook, table, field)
    return { field, about, that: anyOf(same, allOf(...beside.map(sightOf), after(that))) }
  }
  const parents = new Map(parentsOf(rulebook.model, table).map((relation) => [relation.from, relation]))
  const stamped = Object.keys(stampsFor(rulesOf(rulebook, table), action))
  /** An update that leaves all as it is writes no stamps; what was sent for a stamped field is not what is written. */
  const placedStamp = (field: string, that: Condition, beside: readonly string[]): Discretion => {
    if (creating) return { field, about: 'stamped', that }
    const unwritten = action === 'update' ? allOf(...fields.map((name) => leftAsIs(rulebook, table, name))) : never
    const same = fields.includes(field) ? never : leftAsIs(rulebook, table, field)
    return { field, about: 'stamped', that: anyOf(unwritten, same, allOf(...beside.map(sightOf), after(that))) }
  }
  /** @param names of fields in which, taken together, no two records have the same values */
  const together = (names: readonly string[], taken: Condition): readonly Discretion[] => {
    const given = fields.filter((name) => names.includes(name) && (creating || !key.includes(name)))
    const others = names.filter((name) => !fields.includes(name))
    const left = others.filter((name) => !stamped.includes(name))
    const set = creating && given.length > 0 ? [] : stamped.filter((name) => names.includes(name))
    return [
      ...given.map((name) => placed(name, 'taken', taken, others)),
      ...set.map((name) => placedStamp(name, taken, left)),
    ]
  }
  return inOne([
    ...(creating ? together(key, whoeverHas(rulebook, table, key)) : []),
    ...uniquesOf(rulebook.model, table).flatMap((names) => {
      // What holds of a key holds of more than it, too.
      if (key.every((name) => names.includes(name))) return []
      // What the database is yet to give a value to can be anything.
      const isKnown = (name: string) => {
        const filled = all[name]?.filled
        return !filled || fields.includes(name) || stamped.includes(name) || (filled === 'default' && !creating)
      }
      const known = names.filter(isKnown)
      return together(names, anyOf(...known.map(isMissing), whoeverHas(rulebook, table, known)))
    }),
    ...fields.flatMap((name) => {
      const relation = parents.get(name)
      if (!relation) return []
      const { name: called, table: parent, from, to } = relation
      const leads: Condition = {
        kind: 'some',
        relation: called,
        table: parent,
        from: own(from),
        to: { level: 1, field: to },
        one: true,
        where: { kind: 'may', level: 1, table: parent, action: 'get' },
      }
      // Where all records of the other table are seen, the database's own answer tells no more.
      const isOpen = whoeverHas(rulebook, parent, [])
      return [placed(name, 'reference', anyOf(isOpen, isMissing(from), leads), [])]
    }),
  ])
}

/** One of a field and a reason: a field can be a part of the key and of much that is unique, and all of it has to hold. */
function inOne(all: readonly Discretion[]): readonly Discretion[] {
  const found = new Map<string, Discretion>()
  for (const each of all) {
    const id = `${each.about} ${each.field}`
    const before = found.get(id)
    found.set(id, before ? { ...each, that: allOf(before.that, each.that) } : each)
  }
  return [...found.values()]
}

const own = (name: string) => ({ kind: 'field', level: 0, name }) as const

/** No value at all leads nowhere, and is never taken. */
const isMissing = (name: string): Condition => notOf({ kind: 'isSet', operand: own(name) })

/**
 * When the caller sees every record that has these values, and that it has them, whatever else stands in it: by what the
 * caller sees of other records, since the answer tells of these as well.
 */
function whoeverHas(rulebook: Rulebook, table: string, fields: readonly string[]): Condition {
  const { key } = tableOf(rulebook.model, table)
  const hideable = fields.filter((name) => !key.includes(name))
  const seen = allOf(
    permission(rulebook, table, 'get'),
    ...hideable.map((name) => fieldSight(rulebook, table, name, 'get')),
  )
  return supposing(asTold(rulebook, seen, [table]), (name) => !fields.includes(name), never)
}

/**
 * A condition without what hangs on certain fields: each such part, be it said or denied, is taken to come out in one way.
 *
 * @param condition expanded
 * @param of whether the fields are unknown of the record it is about, or only of how a change makes that
 */
export function supposing(
  condition: Condition,
  isUnknown: (field: string) => boolean,
  outcome: Condition,
  of: 'record' | 'change' = 'record',
): Condition {
  const asksOf = (part: Condition): boolean =>
    contains(part, (each) =>
      operandsOf(each).some(
        (operand) =>
          (operand.kind === 'field' && operand.level === 0 && isUnknown(operand.name)) ||
          (of === 'record' && operand.kind === 'old' && isUnknown(operand.name)),
      ),
    )
  const hangs = (part: Condition): boolean =>
    contains(part, (each) => each.kind === 'unchanged' && isUnknown(each.field)) ||
    (of === 'record' ? asksOf(part) : contains(part, (each) => each.kind === 'after' && asksOf(each.of)))
  const replaced = (part: Condition): Condition => {
    if (part.kind === 'all' || part.kind === 'any') return rewrite(part, { part: replaced })
    return hangs(part) ? outcome : part
  }
  return normalise(replaced(normalise(condition)))
}
