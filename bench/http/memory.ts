// Whether memory stays flat over 200,000 requests: lists with filters of changing values, single records, refusals, creates
// under an Idempotency-Key. Run with --expose-gc.
import { createGuard } from 'pachter'
import { createHandler } from 'pachter/http'
import { createIdentity, notMine, thisCaller } from 'pachter/identity'
import { type caller, rules } from '../../examples/allotment/rules.js'
import { openers } from './databases.js'

const REQUESTS = Number(process.env['PACHTER_REQUESTS'] ?? 200_000)
const SAMPLES = 10

const { store, close } = (await openers['SQLite']?.()) as Awaited<ReturnType<NonNullable<(typeof openers)[string]>>>
const identity = await createIdentity({
  rules,
  onEvent: () => undefined,
  sources: [
    {
      name: 'header',
      identify: ({ request }) => {
        const id = request.headers.get('x-member')
        return id === null ? notMine : thisCaller<typeof caller>({ id: Number(id) })
      },
    },
  ],
})
// Refusals are told at once: 50,000 of them would take a quarter of an hour.
const handler = createHandler({ guard: createGuard({ rules, store }), identity, refusalMilliseconds: 0 })
const statuses: Record<number, number> = {}

async function ask(at: number): Promise<void> {
  const member = (at % 25) + 1
  const kinds: (() => [string, RequestInit])[] = [
    () => [`/entries?$top=5&$filter=${encodeURIComponent(`title ne 'no ${at}'`)}`, {}],
    () => [`/entries/${(at % 60) + 1}`, {}],
    () => [`/rents/${at}`, {}],
    () => [`/members/${member}`, { method: 'PATCH', body: JSON.stringify({ phone: String(at) }) }],
    () => ['/plots?$top=3&access=true', {}],
    () => [`/entries?$filter=${encodeURIComponent(`nonsense ${at}`)}`, {}],
  ]
  const [path, init] = (kinds[at % kinds.length] as (typeof kinds)[number])()
  const headers = { 'x-member': String(member), 'content-type': 'application/json' }
  const response = await handler.handle(new Request(`http://localhost/api${path}`, { ...init, headers }))
  await response.text()
  statuses[response.status] = (statuses[response.status] ?? 0) + 1
}

const used = async () => {
  await new Promise((resolve) => setTimeout(resolve, 50))
  globalThis.gc?.()
  return process.memoryUsage().heapUsed / 2 ** 20
}

// What is compiled once is compiled before.
for (let at = 0; at < 5_000; at += 1) await ask(at)
const samples = [await used()]
for (let sample = 1; sample <= SAMPLES; sample += 1) {
  const upTo = (REQUESTS / SAMPLES) * sample
  for (let at = upTo - REQUESTS / SAMPLES; at < upTo; at += 1) await ask(at)
  samples.push(await used())
  console.log(`${upTo} requests: ${samples.at(-1)?.toFixed(1)} MB`)
}
const [first = 0] = samples
console.log(`before: ${first.toFixed(1)} MB; by status ${JSON.stringify(statuses)}`)
await close()
