// Live lists under load: `npx tsx bench/live/load.ts [--kill]`. Two server processes on PostgreSQL, 200 lists of as many
// members, 100 writes a second for 20 seconds past both servers; with --kill, one of them is killed in the middle and started
// again. In the end every list has to be what a list is, and between a write and each list it shows in is measured how long.
import { type ChildProcess, fork } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import { createGuard, trusted } from 'pachter'
import { createClient } from 'pachter/client'
import { postgresqlStore } from 'pachter/connect/postgresql'
import { installTriggers } from 'pachter/live'
import { createTables, insertRecord, postgresql, resumeNumbers } from 'pachter/sql'
import { readData } from '../../examples/allotment/database.js'
import { model } from '../../examples/allotment/model.js'
import { rules } from '../../examples/allotment/rules.js'
import { freePort, startPostgresql } from '../../test/support/servers.js'

const LISTS = 200
const WRITES = Number(process.env['PACHTER_WRITES'] ?? 100)
const SECONDS = Number(process.env['PACHTER_SECONDS'] ?? 20)
/** Of a hundred writes, how many are new entries that all members see. */
const FOR_ALL = Number(process.env['PACHTER_FOR_ALL'] ?? 2)
const KILLS = process.argv.includes('--kill')

const server = await startPostgresql()
const pool = new pg.Pool({ connectionString: server.url })
const store = postgresqlStore(pool)
const wait = (milliseconds: number) => new Promise((resolve) => setTimeout(resolve, milliseconds))
const pick = <T>(of: readonly T[]): T => of[Math.floor(Math.random() * of.length)] as T

await fill()
const everything = createGuard({ rules, store, onDecision: () => undefined }).as(trusted('the load'))
const processes = await Promise.all([0, 1].map(() => freePort().then(start)))

/** When each title was stored, and which. */
const stored = new Map<number, { readonly entry: number; readonly at: number }>()
/** Who could read what for a while, to find what nobody should have been shown. */
const shares = new Map<string, { from: number; to: number }>()
const delays: number[] = []
let shown = 0
let wrong = 0

const followers = Array.from({ length: LISTS }, (_, at) => follow(at + 1, (processes[at % 2] as Running).port))
while (followers.some(({ times }) => times() === 0)) await wait(50)
const before = await askedSoFar()

let number = 0
let writing = 0
const begun = performance.now()
const late: number[] = []
for (let at = 0; at < WRITES * SECONDS; at += 1) {
  const due = begun + (at * 1000) / WRITES
  if (due > performance.now()) await wait(due - performance.now())
  late.push(performance.now() - due)
  if (KILLS && at === (WRITES * SECONDS) / 2) void killAndStart()
  writing += 1
  void write().finally(() => (writing -= 1))
}
while (writing > 0) await wait(10)
const took = (performance.now() - begun) / 1000
const during = await askedSoFar()
const settled = await settle()
report()
for (const { stop } of followers) stop()
for (const { child } of processes) child.kill()
await pool.end()
await server.stop()
process.exit(settled.differing > 0 || wrong > 0 ? 1 : 0)

interface Running {
  readonly port: number
  child: ChildProcess
}

async function start(port: number): Promise<Running> {
  const child = fork(fileURLToPath(new URL('server.ts', import.meta.url)), [server.url, String(port)], {
    execArgv: ['--import', 'tsx'],
  })
  await new Promise((resolve) => child.once('message', resolve))
  return { port, child }
}

async function killAndStart(): Promise<void> {
  const [first] = processes as [Running]
  first.child.kill('SIGKILL')
  await wait(1000)
  first.child = (await start(first.port)).child
}

/** Korenveld with 200 members, a plot for each, and 2,000 entries. */
async function fill(): Promise<void> {
  const run = (text: string, values: readonly unknown[] = []) => store.query(text, [...values])
  for (const statement of createTables(model, postgresql)) await run(statement)
  for (const [table, records] of Object.entries(await readData())) {
    for (const record of records) {
      const { text, values } = insertRecord(model, postgresql, table, record)
      await run(text, values)
    }
  }
  await run(
    `INSERT INTO members (id, name, email, duties, "joinedAt") OVERRIDING SYSTEM VALUE SELECT n, 'Member ' || n, n || '@load.example', '{}', now() FROM generate_series(26, ${LISTS}) n`,
  )
  await run(
    `INSERT INTO plots (id, "siteId", number, "areaM2", "holderId") OVERRIDING SYSTEM VALUE SELECT n + 100, 1 + n % 3, 'L' || n, 50, n FROM generate_series(1, ${LISTS}) n`,
  )
  await run(`INSERT INTO entries (id, "plotId", "authorId", audience, title, body, "createdAt") OVERRIDING SYSTEM VALUE
    SELECT n + 100, 101 + n % ${LISTS}, 1 + (n * 7) % ${LISTS}, CASE WHEN n % 50 = 0 THEN 'members' ELSE 'private' END, 'Entry ' || n, 'As it was.', now() - n * interval '1 minute' FROM generate_series(1, 2000) n`)
  await run(
    `INSERT INTO "entryShares" ("entryId", "memberId", level) SELECT n + 100, 1 + (n * 13) % ${LISTS}, 'view' FROM generate_series(1, 2000, 3) n ON CONFLICT DO NOTHING`,
  )
  for (const table of Object.keys(model.tables)) {
    const resume = resumeNumbers(model, postgresql, table)
    if (resume !== undefined) await run(resume)
  }
  for (const statement of installTriggers(model)) await run(statement)
  await run('ANALYZE')
}

function follow(member: number, port: number) {
  const client = createClient({
    model,
    origin: `http://127.0.0.1:${port}`,
    signIn: null,
    headers: () => ({ 'x-member': String(member) }),
  })
  const query = { orderBy: 'createdAt descending', limit: 50 } as const
  const seen = new Map<number, number>()
  /** What was in the list before: what comes in later was written before it could be seen. */
  let had = new Set<number>()
  let state = ''
  let times = 0
  const stop = client.follow('entries', query, {
    records: ({ records }) => {
      const now = performance.now()
      times += 1
      shown += 1
      state = JSON.stringify(records)
      for (const { id, title = '', audience, authorId, plotId } of records) {
        const written = Number(/^w(\d+)$/.exec(title)?.[1] ?? NaN)
        const last = seen.get(id) ?? -1
        if (written > last) {
          // Titles that were overtaken before they were sent count from when they were stored.
          for (let each = last + 1; each <= written; each += 1) {
            const of = stored.get(each)
            if (of?.entry === id && had.has(id)) delays.push(now - of.at)
          }
          seen.set(id, written)
        }
        const share = shares.get(`${id} ${member}`)
        const isOwn = authorId === member || Number(plotId) - 100 === member || audience !== 'private'
        if (!isOwn && share && (now < share.from - 1 || now > share.to + 5000)) wrong += 1
      }
      had = new Set(records.map(({ id }) => id))
    },
    refused: () => (wrong += 1),
  })
  return {
    member,
    stop: () => {
      stop()
      client.close()
    },
    times: () => times,
    /** Whether it is what a list is. */
    isSame: async () => JSON.stringify((await client.list('entries', query)).records) === state,
  }
}

async function write(): Promise<void> {
  const dice = Math.random() * 100
  const entry = 101 + Math.floor(Math.random() * 2000)
  const member = 1 + Math.floor(Math.random() * LISTS)
  const share = `${entry} ${member}`
  if (dice < FOR_ALL) {
    const values = { plotId: 101, authorId: 1, audience: 'members', title: 'For all', body: '…', createdAt: new Date() }
    await everything.create('entries', values as never)
  } else if (dice < 10 + FOR_ALL) {
    const values = {
      plotId: 100 + member,
      authorId: member,
      audience: 'private',
      title: 'New',
      body: '…',
      createdAt: new Date(),
    }
    await everything.create('entries', values as never)
  } else if (dice < 25) {
    if (shares.has(share)) return
    shares.set(share, { from: performance.now(), to: Infinity })
    await everything
      .create('entryShares', { entryId: entry, memberId: member, level: 'view' })
      .catch(() => shares.delete(share))
  } else if (dice < 35) {
    const open = pick([...shares].filter(([, { to }]) => to === Infinity))
    if (!open) return
    const [entryId, memberId] = open[0].split(' ').map(Number) as [number, number]
    // One that is on its way is not there yet.
    const isGone = await everything.delete('entryShares', { entryId, memberId }).then(
      () => true,
      () => false,
    )
    if (isGone) open[1].to = performance.now()
  } else {
    const title = (number += 1)
    await everything.update('entries', entry, { title: `w${title}` })
    stored.set(title, { entry, at: performance.now() })
  }
}

async function askedSoFar() {
  const all = await Promise.all(
    processes.map(
      async ({ port }) =>
        (await fetch(`http://127.0.0.1:${port}/asked`)
          .then((each) => each.json())
          .catch(() => ({ asked: 0 }))) as { asked: number },
    ),
  )
  return all.reduce((sum, { asked }) => sum + asked, 0)
}

/** Waits until every list is what a list is, a minute at most. */
async function settle() {
  const from = performance.now()
  let differing = followers
  while (differing.length > 0 && performance.now() - from < 60_000) {
    const still = []
    for (const each of differing) if (!(await each.isSame().catch(() => false))) still.push(each)
    differing = still
    if (differing.length > 0) await wait(100)
  }
  return { differing: differing.length, after: performance.now() - from }
}

function report(): void {
  const sorted = delays.sort((one, other) => one - other)
  const at = (part: number) => (sorted[Math.floor(sorted.length * part)] ?? NaN).toFixed(0)
  const lateness = late.sort((one, other) => one - other)[Math.floor(late.length * 0.99)] ?? 0
  console.log(
    `${LISTS} lists, ${WRITES * SECONDS} writes in ${took.toFixed(1)} s (behind their time by ${lateness.toFixed(0)} ms at the 99th percentile), ${FOR_ALL} in 100 for all${KILLS ? ', one of two servers killed and started' : ''}`,
  )
  console.log(
    `lists asked: ${during - before}; ${(((during - before) / (WRITES * SECONDS * LISTS)) * 100).toFixed(1)} % of asking every list at every write`,
  )
  console.log(
    `messages: ${shown}; titles seen: ${sorted.length}, after ${at(0.5)} ms (50th), ${at(0.95)} ms (95th), ${at(0.99)} ms (99th), ${at(0.9999)} ms (the last)`,
  )
  console.log(
    `in the end, ${settled.differing} of ${LISTS} lists differ from what a list is (after ${(settled.after / 1000).toFixed(1)} s); shown to whom it was not shared with: ${wrong}`,
  )
}
