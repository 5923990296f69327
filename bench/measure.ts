/** One line of the results: ours against the reference, in milliseconds or microseconds. */
export interface Result {
  readonly group: string
  readonly task: string
  readonly ours: number
  readonly reference: number
  readonly unit: 'ms' | 'µs'
  /** At most so many times the reference; a negative number, at least so many times faster. */
  readonly target: number
  /** What the reference was, where several were tried. */
  readonly by?: string
}

export const median = (values: readonly number[]): number =>
  [...values].sort((left, right) => left - right)[Math.floor(values.length / 2)] ?? 0

/** Milliseconds that so many runs of something take. */
export async function timed(work: (at: number) => unknown, times: number): Promise<number> {
  const start = performance.now()
  for (let at = 0; at < times; at += 1) {
    const done = work(at)
    if (done instanceof Promise) await done
  }
  return performance.now() - start
}

/** How long, in milliseconds, and how often at most something is run before it is measured. */
const WARM_UP = { milliseconds: 250, times: 15_000 }

/**
 * The first runs prepare statements and find out what there is to know, and it takes thousands until JavaScript
 * is compiled as it is in a server that has been up for a while.
 */
async function warmUp(work: (at: number) => unknown): Promise<void> {
  const until = performance.now() + WARM_UP.milliseconds
  for (let at = 0; at < WARM_UP.times && (at < 2 || performance.now() < until); at += 1) await work(at)
}

const shuffled = (names: readonly string[]): readonly string[] =>
  names
    .map((name) => ({ name, at: Math.random() }))
    .sort((left, right) => left.at - right.at)
    .map(({ name }) => name)

/**
 * Medians of runs that take turns, in milliseconds each. What is quick is run often enough to be measured, what
 * is slow less often.
 *
 * @param budget about how many milliseconds all of it takes
 * @param most how many turns at most
 */
export async function takeTurns(
  works: Readonly<Record<string, (at: number) => unknown>>,
  budget = 600,
  most = 41,
): Promise<Readonly<Record<string, number>>> {
  const names = Object.keys(works)
  const once: Record<string, number> = {}
  for (const name of names) {
    await warmUp(works[name] as () => unknown)
    once[name] = await timed(works[name] as () => unknown, 1)
  }
  const slowest = Math.max(...Object.values(once), 0.001)
  const rounds = Math.max(3, Math.min(most, Math.floor(budget / (slowest * names.length))))
  const times = Math.max(1, Math.min(2_000, Math.floor(5 / slowest)))
  const taken: Record<string, number[]> = Object.fromEntries(names.map((name) => [name, []]))
  for (let round = 0; round < rounds; round += 1) {
    // None is always the one to run on what another left behind, or on what it left behind itself.
    for (const name of shuffled(names)) {
      taken[name]?.push((await timed(works[name] as () => unknown, times)) / times)
    }
  }
  return Object.fromEntries(names.map((name) => [name, median(taken[name] ?? [])]))
}
