// Verdicts in memory against predicates by hand.
import { decide, decider, predicate } from 'pachter'
import { readData } from '../examples/allotment/database.js'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { type Result, takeTurns } from './measure.js'
import { rules } from './world.js'

const RECORDS = 100_000
const ME = 2

export async function measureMemory(): Promise<readonly Result[]> {
  const entries = Array.from({ length: RECORDS }, (_, n) => ({
    id: n,
    plotId: (n * 7919) % 2000,
    authorId: n % 25 === 2 ? ME : 10 + (n % 8000),
    audience: 'private',
    title: `Entry ${n}`,
  }))
  const plots = Array.from({ length: 2_000 }, (_, n) => ({ id: n, holderId: n < 60 ? ME : 10 + (n % 500) }))
  const entryShares = entries
    .filter(({ id }) => id % 2 === 1)
    .map(({ id }) => ({ entryId: id, memberId: id % 31 === 3 ? ME : 10 + (id % 7000), level: 'view' }))
  const data = { entries, plots, entryShares }
  const request = { caller: { id: ME }, table: 'entries', data }
  const three = predicate(rules, { ...request, action: 'list' })
  const one = predicate(rules, { ...request, action: 'create' })
  const sharesOf = new Map<number, { memberId: number }[]>()
  for (const share of entryShares) sharesOf.set(share.entryId, [...(sharesOf.get(share.entryId) ?? []), share])
  const plotOf = new Map(plots.map((plot) => [plot.id, plot]))
  type Entry = (typeof entries)[number]
  const oneByHand = (entry: Entry) => entry.authorId === ME
  const threeByHand = (entry: Entry) =>
    entry.authorId === ME ||
    (sharesOf.get(entry.id)?.some(({ memberId }) => memberId === ME) ?? false) ||
    plotOf.get(entry.plotId)?.holderId === ME
  const count = (test: (entry: Entry) => boolean) => () => {
    let found = 0
    for (const entry of entries) if (test(entry)) found += 1
    return found
  }
  const each = async (task: string, ours: (entry: Entry) => boolean, reference: (entry: Entry) => boolean) => {
    const times = await takeTurns({ ours: count(ours), reference: count(reference) })
    const per = (name: string) => ((times[name] ?? 0) * 1000) / RECORDS
    return { group: 'memory', task, ours: per('ours'), reference: per('reference'), unit: 'µs', target: 1.5 } as const
  }
  const filtered = await takeTurns({
    ours: () => entries.filter(three),
    reference: () => entries.filter(threeByHand),
  })
  return [
    await each('verdict, one tie', one, oneByHand),
    await each('verdict, three ties', three, threeByHand),
    {
      group: 'memory',
      task: 'filter 100,000 records, three ties',
      ours: filtered['ours'] ?? 0,
      reference: filtered['reference'] ?? 0,
      unit: 'ms',
      target: 1.5,
    },
  ]
}

/** What a verdict with its reasons takes, for Korenveld's entries, as they come, and three of its callers. */
export async function measureDecide(): Promise<readonly { readonly task: string; readonly microseconds: number }[]> {
  const data = await readData()
  const entries = data['entries'] ?? []
  const callers = [{ id: 1 }, { id: 2 }, { id: 3 }]
  const record = (at: number) => entries[at % entries.length] as (typeof entries)[number]
  const actions = ['get', 'update', 'delete'] as const
  // Made beforehand: putting questions together is not what is measured.
  const asked = Array.from({ length: 3 * entries.length }, (_, at) => ({
    caller: callers[at % 3],
    action: actions[at % 3] as 'get',
    table: 'entries',
    data,
    record: record(at),
  }))
  const prepared = actions.map((action) => decider(korenveld, { caller: { id: 1 }, action, table: 'entries', data }))
  const times = await takeTurns({
    decide: (at) => decide(korenveld, asked[at % asked.length] as (typeof asked)[number]),
    decider: (at) => prepared[at % 3]?.(record(at)),
  })
  return [
    { task: 'decide, with reasons, on one of Korenveld’s entries', microseconds: (times['decide'] ?? 0) * 1000 },
    { task: 'decider, the same, ready for many records', microseconds: (times['decider'] ?? 0) * 1000 },
  ]
}
