// What it costs that a database calls things otherwise than the model: a point read and a list, on SQLite, in turns. Twice the
// same is the control.
import { createGuard, readRulebook, type Rules } from 'pachter'
import { openFixture } from 'pachter/check'
import { rules as plain } from '../examples/allotment/rules.js'
import { readData } from '../examples/allotment/database.js'
import { median, takeTurns } from './measure.js'

/** The same rules, over tables and columns with other names. */
function renamed(): typeof plain {
  const { tables } = plain.model
  const stored = Object.entries(tables).map(([table, { key, fields }]) => {
    const others = Object.entries(fields).map(([name, field]) => [name, { ...field, stored: `${name} stored` }])
    return [table, { key, fields: Object.fromEntries(others), stored: { name: `${table} stored` } }]
  })
  const model = { tables: Object.fromEntries(stored) }
  return readRulebook({ ...plain, model }) as Rules as typeof plain
}

const data = await readData()
const open = async (rules: typeof plain) => {
  const { store } = await openFixture(rules.model, data)
  return createGuard({ rules, store }).as({ id: 1 })
}
const [asWritten, control, otherwise] = [await open(plain), await open(plain), await open(renamed())]
const tasks = {
  'get, one entry': (scoped: typeof control) => (at: number) => scoped.get('entries', [3, 4, 8][at % 3] as number),
  'list, 20 entries': (scoped: typeof control) => () => scoped.list('entries', { limit: 20 }),
}
for (const [task, ask] of Object.entries(tasks)) {
  const ratios: [number, number][] = []
  for (let at = 0; at < 9; at += 1) {
    const times = await takeTurns({ plain: ask(asWritten), control: ask(control), stored: ask(otherwise) }, 900)
    const of = (name: string) => (times[name] ?? 0) / (times['plain'] ?? 1)
    ratios.push([of('control'), of('stored')])
  }
  const [same, other] = [median(ratios.map(([each]) => each)), median(ratios.map(([, each]) => each))]
  console.log(
    `${task}: with stored names ${other.toFixed(3)} of the time with the model's own; the control ${same.toFixed(3)}`,
  )
}
