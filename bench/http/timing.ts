// Whether the time of an answer tells a hidden record from one that is not there: the rank-sum test of Wilcoxon, Mann and
// Whitney, over requests drawn at random between the two. With a control: two records that are not there.
import { createGuard } from 'pachter'
import { createHandler } from 'pachter/http'
import { createIdentity, thisCaller } from 'pachter/identity'
import { openers } from './databases.js'
import { callers } from '../../examples/allotment/callers.js'
import { rules } from '../../examples/allotment/rules.js'

const REQUESTS = Number(process.env['PACHTER_REQUESTS'] ?? 1500)

/** Records that are hidden from ben, by table, and two that nobody has. */
const HIDDEN: Readonly<Record<string, readonly [hidden: number, none: number, other: number]>> = {
  rents: [1, 900001, 900002],
  jobs: [0, 900001, 900002],
}

const engines = process.env['PACHTER_ENGINES']?.split(',') ?? Object.keys(openers)

for (const open of engines.flatMap((name) => openers[name] ?? [])) {
  const { name, store, close } = await open()
  const guard = createGuard({ rules, store })
  const identity = await createIdentity({
    rules,
    sources: [{ name: 'ben', identify: () => thisCaller<typeof rules.caller>(callers.ben) }],
  })
  const handler = createHandler({ guard, identity })
  const time = async (path: string, method: string) => {
    const request = new Request(`http://localhost/api/${path}`, { method })
    const start = process.hrtime.bigint()
    const response = await handler.handle(request)
    await response.arrayBuffer()
    if (response.status !== 404) throw new Error(`${path}: ${response.status}`)
    return Number(process.hrtime.bigint() - start) / 1000
  }
  for (const [table, [first, none, other]] of Object.entries(HIDDEN)) {
    const hidden = first || (await hiddenIn(table))
    for (const method of (process.env['M'] ?? 'GET,DELETE').split(',')) {
      for (const [what, one, two] of [
        ['hidden', hidden, none],
        ['control', none, other],
      ] as const) {
        const times: [number[], number[]] = [[], []]
        for (let at = 0; at < REQUESTS * 2 + 400; at += 1) {
          const which = Math.random() < 0.5 ? 0 : 1
          const took = await time(`${table}/${which === 0 ? one : two}`, method)
          if (at >= 400) times[which].push(took)
        }
        const { z, p } = rankSum(...times)
        const [a, b] = times.map(median)
        console.log(
          `${name} ${method} ${table} ${what}: medians ${a?.toFixed(1)} and ${b?.toFixed(1)} µs, z ${z.toFixed(2)}, p ${p.toFixed(4)}`,
        )
      }
    }
  }
  async function hiddenIn(table: string): Promise<number> {
    for (let key = 1; key < 100; key += 1) {
      const response = await handler.handle(new Request(`http://localhost/api/${table}/${key}`))
      if (response.status === 404) return key
    }
    throw new Error('none is hidden')
  }
  await close()
}

function median(times: readonly number[]): number {
  return [...times].sort((a, b) => a - b)[Math.floor(times.length / 2)] as number
}

function rankSum(one: readonly number[], two: readonly number[]): { z: number; p: number } {
  const all = [...one.map((time) => [time, 0] as const), ...two.map((time) => [time, 1] as const)].sort(
    (a, b) => a[0] - b[0],
  )
  let ranks = 0
  let ties = 0
  for (let at = 0; at < all.length;) {
    let end = at
    while (end < all.length && all[end]?.[0] === all[at]?.[0]) end += 1
    for (let each = at; each < end; each += 1) if (all[each]?.[1] === 0) ranks += (at + 1 + end) / 2
    ties += (end - at) ** 3 - (end - at)
    at = end
  }
  const [n, m] = [one.length, two.length]
  const mean = (n * (n + m + 1)) / 2
  const variance = ((n * m) / 12) * (n + m + 1 - ties / ((n + m) * (n + m - 1)))
  const z = (ranks - mean) / Math.sqrt(variance)
  return { z, p: 2 * (1 - normal(Math.abs(z))) }
}

/** Abramowitz and Stegun 7.1.26. */
function normal(z: number): number {
  const x = z / Math.SQRT2
  const t = 1 / (1 + 0.3275911 * x)
  const e =
    1 -
    ((((1.061405429 * t - 1.453152027) * t + 1.421413741) * t - 0.284496736) * t + 0.254829592) * t * Math.exp(-x * x)
  return (1 + e) / 2
}
