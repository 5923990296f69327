// How long it takes to check what many callers see, and to count what everyone reaches; writes
// docs/benchmarks-checking.md. PACHTER_BENCH sets which of SQLite, PostgreSQL and MariaDB take part.
import { writeFileSync } from 'node:fs'
import { cpus } from 'node:os'
import { everyoneIn, openExpectations, openWorkbench, reachOfAll, runFile } from 'pachter/check'
import { rules } from '../examples/allotment/rules.js'
import { openers } from './databases.js'
import { generate } from './world.js'

const ENTRIES = 100_000
const CALLERS = 1_000
const names = (process.env['PACHTER_BENCH'] ?? Object.keys(openers).join()).split(',')

const callers = Object.fromEntries(Array.from({ length: CALLERS }, (_, at) => [`member${at + 1}`, { id: at + 1 }]))
const everyone = everyoneIn(rules)
const rows: string[][] = []

async function timed<T>(task: string, where: string, work: () => Promise<T>): Promise<T> {
  const start = performance.now()
  const done = await work()
  const seconds = (performance.now() - start) / 1000
  console.error(`${where}: ${task} ${seconds.toFixed(2)} s`)
  rows.push([where, task, `${seconds.toFixed(2)} s`])
  return done
}

for (const name of names) {
  for (const members of [10_000, 100_000]) {
    const database = await (openers[name] as (typeof openers)[string])()
    await generate(database.store, ENTRIES, members)
    const bench = openWorkbench({ rules, callers, store: database.store })
    const size = `${members.toLocaleString('en')} members × ${ENTRIES.toLocaleString('en')} entries`
    const { reaches } = await timed(`see --reach, all tables, ${size}`, name, () => reachOfAll(bench, everyone))
    await timed(`see entries --reach, ${size}`, name, () => reachOfAll(bench, everyone, ['entries']))
    if (members === 10_000) {
      // Three statements about each caller: how many they see, one they do not, and one they may not change.
      const counts = new Map(reaches.map(({ key, counts: of }) => [key, of['entries'] as number]))
      const stated = Object.keys(callers).map((caller, at) => {
        const entries = { sees: counts.get(String(at + 1)), may: { delete: { noneOf: [at * 90 + 4] } } }
        return [caller, { entries, plots: { sees: ENTRIES / 50 }, members: { sees: members } }]
      })
      const text = JSON.stringify({ callers: Object.fromEntries(stated) })
      const file = await openExpectations(bench, text, 'expectations.yaml')
      const { outcomes, failed } = await timed(`check, ${CALLERS} callers × 4 expectations, ${size}`, name, () =>
        runFile(file),
      )
      console.error(`${name}: ${failed} of ${outcomes.length} do not hold`)
      const { identifier: q } = database.store.dialect
      const indexed = name === 'MariaDB' ? `${q('audience')}(16)` : q('audience')
      await database.store.query(`CREATE INDEX entries_audience ON ${q('entries')} (${indexed})`, [])
      // Of the same callers, the keys of what they see, written out: one query each.
      const listed: Record<string, object> = {}
      const open = () => openWorkbench({ rules, callers, store: { ...database.store } })
      const informed = open()
      for (const caller of Object.keys(callers)) {
        if ((counts.get(caller.slice('member'.length)) ?? 0) > 100) continue
        const keys = await informed.as(caller).list('entries', { fields: [] })
        listed[caller] = { entries: { sees: keys.map(({ id }) => id), may: { update: { atLeast: 0 } } } }
      }
      const exactly = async (of: object, how: string) => {
        const task = `check, ${Object.keys(of).length} callers, the exact keys and what may be updated, ${size}, ${how}`
        const exact = await openExpectations(open(), JSON.stringify({ callers: of }), 'expectations.yaml')
        const { outcomes, failed } = await timed(task, name, () => runFile(exact))
        console.error(`${name}: ${failed} of ${outcomes.length} do not hold`)
      }
      await exactly(listed, 'with an index on the audience')
      await database.store.query(`DROP INDEX entries_audience${name === 'MariaDB' ? ` ON ${q('entries')}` : ''}`, [])
      // Each goes through the whole table: a tenth of them tells it.
      await exactly(Object.fromEntries(Object.entries(listed).slice(0, CALLERS / 10)), 'with none')
    }
    await database.close()
  }
}

const lines = ['| where | task | takes |', '| --- | --- | --- |', ...rows.map((row) => `| ${row.join(' | ')} |`)]
const written = [
  '# Benchmarks of checking',
  '',
  `Written by \`npm run bench\`, on ${cpus().length} × ${cpus()[0]?.model.trim()}, Node ${process.version}. Korenveld's rules, all eleven tables; each figure is one cold run.`,
  '',
  ...lines,
  '',
]
writeFileSync(new URL('../docs/benchmarks-checking.md', import.meta.url), written.join('\n'))
console.log(lines.join('\n'))
