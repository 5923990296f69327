import { bigIntAsText, parentsOf } from '../model/index.js'
import { type Reading } from '../decide/index.js'
import { lockParents } from './attempt.js'
import { type ReadRecord, valueSlot } from './backend.js'
import { findByKeys } from './reads.js'
import { run, type Session } from './session.js'
import { allOrNot, CHUNK, inOrderOf, isIndependent, NOT_ALL } from './together.js'
import { type Creation, creationOf, keyAmong } from './writes.js'

/** Stores records by as few statements as can be, if nothing stands in the way of any. */
export async function createTogether(
  session: Session,
  table: string,
  readings: readonly PromiseSettledResult<Reading>[],
): Promise<readonly ReadRecord[] | undefined> {
  const groups = new Map<string, { readonly at: number; readonly creation: Creation }[]>()
  for (const [at, reading] of readings.entries()) {
    if (reading.status === 'rejected') return undefined
    const creation = creationOf(session, table, reading.value)
    if (creation.problems.size > 0) return undefined
    const alike = JSON.stringify([creation.reading.fields, creation.stored])
    const group = groups.get(alike)
    if (group) group.push({ at, creation })
    else groups.set(alike, [{ at, creation }])
  }
  for (const [first] of groups.values()) {
    const condition = first?.creation.planFor(2)?.condition
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
  const write = planFor(creations.length)
  if (!write) throw NOT_ALL
  // Where many lead to one record, that is locked once.
  const parents = parentsOf(model, table)
  const leading = new Map(
    creations.map(({ record }) => [
      JSON.stringify(
        parents.map(({ from }) => record[from]),
        bigIntAsText,
      ),
      record,
    ]),
  )
  if (write.rests) for (const record of leading.values()) await lockParents(inside, table, record)
  const given: Record<string, unknown> = {}
  for (const [at, { record }] of creations.entries()) {
    for (const name in record) given[valueSlot(name, at)] = record[name]
  }
  const { touched, ...written } = await run(inside, write.plan, given, now)
  if (touched !== creations.length) throw NOT_ALL
  const numbers = written.keys?.() ?? []
  const keys = creations.map(({ record }, at) => keyAmong(model, table, { ...record, ...numbers[at] }))
  return inOrderOf(inside, table, keys, written.records?.() ?? (await findByKeys(inside, table, keys)))
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
