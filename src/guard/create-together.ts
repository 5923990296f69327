import { readValues } from '../decide/index.js'
import { lockParents } from './attempt.js'
import { type ReadRecord, valueSlot } from './backend.js'
import { findByKeys } from './reads.js'
import { run, type Session } from './session.js'
import { allOrNot, CHUNK, inOrderOf, isIndependent, NOT_ALL } from './together.js'
import { problemsFound } from './validators.js'
import { type Creation, creationOf, isFit, keyAmong } from './writes.js'

/** Stores records by as few statements as can be, if nothing stands in the way of any. */
export async function createTogether(
  session: Session,
  table: string,
  all: readonly unknown[],
): Promise<readonly ReadRecord[] | undefined> {
  const { rulebook, validators } = session
  const groups = new Map<string, { readonly at: number; readonly creation: Creation }[]>()
  for (const [at, given] of all.entries()) {
    const found = await problemsFound(validators, table, 'create', given)
    const creation = creationOf(session, table, readValues(rulebook, table, 'create', given, found))
    if (!isFit(session, table, creation)) return undefined
    const alike = JSON.stringify([creation.reading.fields, creation.stored])
    groups.set(alike, [...(groups.get(alike) ?? []), { at, creation }])
  }
  for (const [first] of groups.values()) {
    const condition = first?.creation.planFor(2).condition
    if (!condition || !isIndependent(session, table, condition, false)) return undefined
  }
  const created: ReadRecord[] = []
  const done = await allOrNot(session, async (inside) => {
    for (const group of groups.values()) {
      for (const part of inParts(group)) {
        const records = await createPart(
          inside,
          table,
          part.map(({ creation }) => creation),
        )
        for (const [place, { at }] of part.entries()) created[at] = records[place] as ReadRecord
      }
    }
    return true
  })
  return done ? created : undefined
}

async function createPart(
  inside: Session,
  table: string,
  creations: readonly Creation[],
): Promise<readonly ReadRecord[]> {
  const { model } = inside.rulebook
  const [{ planFor, now }] = creations as readonly [Creation]
  const { plan, rests } = planFor(creations.length)
  if (rests) for (const { record } of creations) await lockParents(inside, table, record)
  const given: Record<string, unknown> = {}
  for (const [at, { record }] of creations.entries()) {
    for (const name in record) given[valueSlot(name, at)] = record[name]
  }
  const { touched, records, keys: numbers = [] } = await run(inside, plan, given, now)
  if (touched !== creations.length) throw NOT_ALL
  const keys = creations.map(({ record }, at) => keyAmong(model, table, { ...record, ...numbers[at] }))
  return inOrderOf(inside, table, keys, records ?? (await findByKeys(inside, table, keys)))
}

/** Cuts a list into parts of a few sizes, so that a few sizes of statement serve all. */
function inParts<T>(all: readonly T[]): readonly (readonly T[])[] {
  const parts: (readonly T[])[] = []
  for (let at = 0; at < all.length;) {
    const size = Math.min(CHUNK, 2 ** Math.floor(Math.log2(all.length - at)))
    parts.push(all.slice(at, at + size))
    at += size
  }
  return parts
}
