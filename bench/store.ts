// The guarded store against SQL by hand, on one database.
import { createGuard } from 'pachter'
import { byHand, PLAIN, pointByHand, updateByHand } from './by-hand.js'
import { writerFor } from 'pachter/sql'
import type { Bench } from './databases.js'
import { type Result, takeTurns, timed } from './measure.js'
import { REACHES, rules } from './world.js'

/** From so many milliseconds on, once tells enough. */
const SLOW = 100

/** What is measured of callers who reach so much: where little is reached, little differs. */
const MEASURED: Readonly<Record<keyof typeof REACHES, readonly string[]>> = {
  0: ['list', 'count'],
  100: ['list', 'count', 'page', 'far', 'access'],
  '100,000': ['list', 'count', 'far', 'access'],
  all: ['list', 'page', 'access'],
}

/** Ways by hand that take so many times as long as the quickest are not measured on. */
const HOPELESS = 5

export async function measureStore(
  { name: group, store, run }: Bench,
  progress: (done: string) => void,
): Promise<readonly Result[]> {
  const guard = createGuard({ rules, store })
  const { dialect } = store
  const results: Result[] = []
  const add = (result: Omit<Result, 'group'>) => {
    results.push({ group, ...result })
    progress(`${group}: ${result.task}`)
  }

  const own = guard.as(REACHES[100])
  const [{ id: key = 0 } = {}] = await own.list('entries', { where: (row) => row.authorId.is(1), limit: 1 })
  const point = run(pointByHand(dialect))
  const change = run(updateByHand(dialect))
  // What comes back is to be the same: moments as dates, whole numbers as numbers.
  const shapes = Object.entries(rules.model.tables['entries']?.fields ?? {})
  const readers = shapes.flatMap(([name, shape]) => {
    const { fromDriver } = dialect.types[shape.type]
    return fromDriver ? [{ name, read: (value: unknown) => fromDriver(value, shape) }] : []
  })
  const asGuarded = (rows: readonly object[]) => {
    for (const row of rows as Record<string, unknown>[]) {
      for (const { name, read } of readers) {
        const value = row[name]
        if (value !== null && value !== undefined && !(value instanceof Date)) row[name] = read(value)
      }
    }
    return rows
  }
  const moment = () => writerFor(dialect, { type: 'timestamp' })(new Date())
  const single = dialect.name === 'sqlite' ? 1.25 : 1.05
  const read = await takeTurns(
    { ours: () => own.get('entries', key), reference: async () => asGuarded(await point([1, key])) },
    2_000,
  )
  add({ task: 'point read', ...micro(read), target: single })
  const updated = await takeTurns(
    {
      ours: (at) => own.update('entries', key, { title: `Ours ${at} ${Math.random()}` }),
      // Where the database returns nothing, the changed record has to be read.
      reference: async (at) => {
        const rows = await change([`By hand ${at} ${Math.random()}`, moment(), key, 1])
        return asGuarded(dialect.returning ? rows : await point([1, key]))
      },
    },
    2_000,
  )
  add({ task: 'one-row update', ...micro(updated), target: single })

  for (const [reach, caller] of Object.entries(REACHES)) {
    const scoped = guard.as(caller)
    const whole = await scoped.list('entries', { fields: [], limit: 1, offset: 50_000 })
    const middle = whole[0]?.id ?? (await scoped.list('entries', { fields: [] })).at(Math.max(0, 60))?.id ?? 500_000
    const tasks = {
      list: () => scoped.list('entries', { limit: 50 }),
      count: () => scoped.count('entries'),
      page: () => scoped.list('entries', { limit: 50, after: { id: middle } }),
      far: () => scoped.list('entries', { limit: 50, offset: 5_000 }),
    }
    for (const [task, ours] of Object.entries(tasks)) {
      if (!MEASURED[reach as '0'].includes(task)) continue
      const [best, reference] = await fastest(run, byHand(dialect, task as 'list'), [caller.id, middle], asGuarded)
      const times = await takeTurns({ ours, reference })
      const names = { list: 'list 50', count: 'count', page: '50 after the 50,000th', far: '50 by offset 5,000' }
      add({
        task: `${names[task as 'list']}, reaching ${reach}`,
        ours: times['ours'] ?? 0,
        reference: times['reference'] ?? 0,
        unit: 'ms',
        target: 1.1,
        by: best,
      })
      if (reach !== '100' || (task !== 'list' && task !== 'count')) continue
      const plain = run((byHand(dialect, task) as Record<string, string>)[PLAIN] as string)
      const against = await takeTurns({ ours, reference: () => plain([caller.id, middle]) })
      add({
        task: `${names[task]}, reaching 100, against OR of EXISTS`,
        ours: against['ours'] ?? 0,
        reference: against['reference'] ?? 0,
        unit: 'ms',
        target: -100,
        by: PLAIN,
      })
    }
    if (!MEASURED[reach as '0'].includes('access')) continue
    const access = await takeTurns({
      ours: () => scoped.list('entries', { limit: 50, access: true }),
      reference: tasks.list,
    })
    const [ours, reference] = [access['ours'] ?? 0, access['reference'] ?? 0]
    add({ task: `list 50 with $access for 4 actions, reaching ${reach}`, ours, reference, unit: 'ms', target: 1.3 })
  }
  return results
}

const micro = ({ ours = 0, reference = 0 }: Readonly<Record<string, number>>) => ({
  ours: ours * 1000,
  reference: reference * 1000,
  unit: 'µs' as const,
})

/** The fastest of the ways by hand, ready to run. */
async function fastest(
  run: Bench['run'],
  queries: Readonly<Record<string, string>>,
  values: readonly unknown[],
  read: (rows: readonly object[]) => unknown,
): Promise<readonly [string, () => unknown]> {
  const ways: { way: string; work: () => Promise<unknown>; took: number }[] = []
  for (const [way, text] of Object.entries(queries)) {
    const query = run(text)
    const work = async () => read(await query(values))
    // What is slow by far is so the first time as well.
    const first = await timed(work, 1)
    const took = first > SLOW ? first : Math.min(first, await timed(work, 1))
    ways.push({ way, work, took })
  }
  const quickest = Math.min(...ways.map(({ took }) => took))
  const hopeful = ways.filter(({ took }) => took < HOPELESS * quickest)
  const times = await takeTurns(Object.fromEntries(hopeful.map(({ way, work }) => [way, work])), 300)
  const [best] = hopeful.sort((left, right) => (times[left.way] ?? 0) - (times[right.way] ?? 0))
  if (best === undefined) throw new Error('No way by hand comes to an end in time.')
  return [best.way, best.work]
}

/** The database's own account of how it finds the list of one who reaches 100, in each form. */
export async function explainForms({ store }: Bench): Promise<Readonly<Record<string, string>>> {
  const guard = createGuard({ rules, store })
  const explain = { postgresql: 'EXPLAIN (COSTS OFF) ', sqlite: 'EXPLAIN QUERY PLAN ', mariadb: 'EXPLAIN ' }
  const forms: Record<string, string> = {}
  for (const form of store.dialect.name === 'sqlite'
    ? (['gather', 'walk'] as const)
    : (['gather', 'scan', 'walk'] as const)) {
    const plan = await guard.as(REACHES[100]).plan('entries', { limit: 50, form })
    if (!plan) continue
    const { rows } = await store.query(explain[store.dialect.name] + plan.text, [...plan.values])
    forms[form] = rows.map((row) => lineOf(row)).join('\n')
  }
  return forms
}

/** One step of a plan: as text where the database writes text, else what it tells of table, index and rows. */
function lineOf(row: Readonly<Record<string, unknown>>): string {
  const { 'QUERY PLAN': text, detail, select_type: kind, table, type, key, rows, Extra: extra } = row
  if (typeof text === 'string') return text
  if (typeof detail === 'string') return detail
  return [kind, table, type, key, rows, extra].map((each) => String(each ?? '·')).join(' | ')
}
