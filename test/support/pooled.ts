// A process of its own behind a pooler: reads with a rulebook that lets it see what it names, and tells what came.
import pg from 'pg'
import { createGuard, defineCaller, defineModel, defineRules, integer, text } from 'pachter'
import { postgresqlStore } from 'pachter/connect/postgresql'

const [url = '', crop = '', times = '0'] = process.argv.slice(2)

const model = defineModel({ beds: { id: integer().key(), crop: text(), notes: text() } })
const rules = defineRules(model, defineCaller({ id: integer() }), {
  // As many values, and another text: under the other's name it would run.
  beds: ({ row, table }) =>
    table.ties({ own: crop === 'kale' ? row.crop.startsWith(crop) : row.crop.is(crop) }).grants({ read: ['own'] }),
})
const pool = new pg.Pool({ connectionString: url, max: 4 })
// Connections are killed under it: whoever has a pool has to listen.
pool.on('error', () => undefined)
const as = createGuard({ rules, store: postgresqlStore(pool) }).as({ id: 1 })

let [answered, failed, wrong] = [0, 0, 0]
for (let at = 0; at < Number(times); at += 1) {
  const calls = [
    as.list('beds'),
    as.count('beds'),
    as.list('beds', { where: (row) => row.id.above(at % 20) }),
    as.list('beds', { orderBy: 'notes' }),
  ]
  for (const outcome of await Promise.allSettled(calls)) {
    if (outcome.status === 'rejected') failed += 1
    else if (Array.isArray(outcome.value)) {
      answered += 1
      if (outcome.value.some((bed) => bed.crop !== crop)) wrong += 1
    } else {
      answered += 1
      if (outcome.value !== 10) wrong += 1
    }
  }
}
await pool.end()
console.log(JSON.stringify({ answered, failed, wrong }))
