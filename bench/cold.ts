// What a process pays before its first verdict, and whether memory stays flat over a million calls.
import { execFileSync } from 'node:child_process'
import Database from 'better-sqlite3'
import { createGuard } from 'pachter'
import { sqliteStore } from 'pachter/connect/sqlite'
import { rules as korenveld } from '../examples/allotment/rules.js'
import { median } from './measure.js'
import { generate, REACHES, rules } from './world.js'

const SCRIPT = `
const text = require('node:fs').readFileSync(0, 'utf8')
const start = performance.now()
Promise.all([import('pachter/rules'), import('pachter/decide')]).then(([{ readRulebook }, { decide }]) => {
  const record = { id: 1, plotId: 1, authorId: 1, audience: 'private', title: 'Leeks', body: 'Sown.' }
  decide(readRulebook(text), { caller: { id: 1 }, action: 'update', table: 'entries', record, data: {} })
  console.log(performance.now() - start)
})`

/** Milliseconds to import the core, read Korenveld's rulebook and decide once, in a process of its own. */
export function measureColdStart(): number {
  const input = JSON.stringify(korenveld)
  const runs = Array.from({ length: 15 }, () =>
    Number(execFileSync('node', ['-e', SCRIPT], { input, encoding: 'utf8' })),
  )
  return median(runs)
}

/** The heap in MB before and after a million guarded calls by ever new callers. */
export async function measureHeap(): Promise<{ readonly before: number; readonly after: number }> {
  const database = new Database(':memory:')
  const store = sqliteStore(database)
  await generate(store, 10_000)
  const guard = createGuard({ rules, store })
  const call = async (at: number) => {
    const scoped = guard.as(at % 3 ? { id: at } : REACHES[100])
    if (at % 10 === 0) await scoped.list('entries', { limit: 5, where: (row) => row.plotId.is(at % 50) })
    else if (at % 10 === 1) await scoped.update('entries', 5, { title: `Entry ${at}` }).catch(() => undefined)
    else await scoped.get('entries', 1 + (at % 10_000)).catch(() => undefined)
  }
  for (let at = 0; at < 50_000; at += 1) await call(at)
  const before = heap()
  for (let at = 0; at < 1_000_000; at += 1) await call(at)
  const after = heap()
  database.close()
  return { before, after }
}

function heap(): number {
  if (!globalThis.gc) throw new Error('Run with --expose-gc.')
  globalThis.gc()
  return process.memoryUsage().heapUsed / 1e6
}
