// What a task costs as a table grows, for callers who reach as much of it at every size.
import { createGuard } from 'pachter'
import { type Bench, openers } from './databases.js'
import { takeTurns } from './measure.js'
import { generate, REACHES, rules } from './world.js'

/** What a task takes at each size, in milliseconds. */
export interface Growth {
  readonly group: string
  readonly task: string
  readonly times: Readonly<Record<string, number>>
}

/** From the smallest to the largest table, a task may take so many times as long. */
export const TARGET = 1.5

/** Opens a database for each size, filled. */
export async function openSizes(name: string, sizes: readonly number[]): Promise<ReadonlyMap<number, Bench>> {
  const open = openers[name]
  if (!open) throw new Error(`There is no database ${name}; there is ${Object.keys(openers).join(', ')}.`)
  const opened = new Map<number, Bench>()
  for (const size of sizes) {
    console.error(`${name}: generating ${size.toLocaleString('en')} entries…`)
    const bench = await open()
    await generate(bench.store, size)
    opened.set(size, bench)
  }
  return opened
}

const open = ({ store }: Bench) => createGuard({ rules, store })
type Mine = ReturnType<ReturnType<typeof open>['as']>

/** Tasks, each prepared for one who asks: of one's own, the keys of a record and of the 30th that is seen. */
const TASKS: Readonly<Record<string, (mine: Mine, own: number, middle: number) => (at: number) => unknown>> = {
  'list 50': (mine) => () => mine.list('entries', { limit: 50 }),
  'list 50 by title': (mine) => () => mine.list('entries', { orderBy: 'title', limit: 50 }),
  'list 50 with $access': (mine) => () => mine.list('entries', { limit: 50, access: true }),
  '50 after the 30th': (mine, _, id) => () => mine.list('entries', { limit: 50, after: { id } }),
  count: (mine) => () => mine.count('entries'),
  exists: (mine) => () => mine.exists('entries'),
}
const OWN: typeof TASKS = {
  'point read': (mine, own) => () => mine.get('entries', own),
  'one-row update': (mine, own) => (at) => mine.update('entries', own, { title: `Grown ${at} ${Math.random()}` }),
  'create and delete': (mine) => async () => {
    const { id } = await mine.create('entries', { plotId: 1, audience: 'private', title: 'Leeks', body: 'Sown.' })
    await mine.delete('entries', id as number)
  },
}

/** Measures each task on all sizes, which take turns. */
export async function measureGrowth(group: string, benches: ReadonlyMap<number, Bench>): Promise<readonly Growth[]> {
  const guards = [...benches].map(([size, bench]) => ({ size, guard: open(bench) }))
  const growths: Growth[] = []
  for (const reach of ['0', '100'] as const) {
    for (const [task, prepare] of Object.entries(reach === '0' ? TASKS : { ...TASKS, ...OWN })) {
      const works: Record<string, (at: number) => unknown> = {}
      for (const { size, guard } of guards) {
        const mine = guard.as(REACHES[reach])
        const [own] = await mine.list('entries', { where: (row) => row.authorId.is(1), limit: 1 })
        const [middle] = await mine.list('entries', { limit: 1, offset: 30 })
        works[size] = prepare(mine, own?.id ?? 1, middle?.id ?? 500)
      }
      growths.push({
        group,
        task: task in OWN ? task : `${task}, reaching ${reach}`,
        times: await takeTurns(works),
      })
      console.error(`${group}: ${task}, as the table grows`)
    }
  }
  return growths
}

/** How many times as long a task takes on the largest table as on the smallest. */
export function growthOf({ times }: Growth): number {
  const sizes = Object.keys(times)
    .map(Number)
    .sort((left, right) => left - right)
  return (times[String(sizes.at(-1))] ?? 0) / (times[String(sizes[0])] ?? 1)
}
