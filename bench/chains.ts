// What a chain costs: a million crops in 100,000 beds that stand in one another, ten deep, for somebody who keeps an outermost
// bed and so reaches a hundred crops; beside it, the same without the chain, and the count as one would write it by hand.
import { createGuard, defineCaller, defineModel, defineRules, integer, references } from 'pachter'
import { createTables } from 'pachter/sql'
import { openers } from './databases.js'
import { takeTurns } from './measure.js'

const model = defineModel({
  members: { id: integer().key() },
  beds: { id: integer().key(), insideId: references('beds').optional(), keeperId: references('members').optional() },
  crops: { id: integer().key(), bedId: references('beds'), growerId: references('members') },
})
const caller = defineCaller({ id: integer() })
const rulesWith = (isChain: boolean) =>
  defineRules(model, caller, {
    crops: ({ row, caller: { id }, table }) =>
      table
        .ties({
          grower: row.growerId.is(id),
          keeper: isChain ? row.bed.chain('insideId').some((bed) => bed.keeperId.is(id)) : row.bed.keeperId.is(id),
        })
        .grants({ read: ['grower', 'keeper'] }),
  })

const LEVEL = 10_000
const DEEP = 10
const CROPS = 1_000_000

/** Numbers from 1, as each database makes them. */
const NUMBERS: Readonly<Record<string, (to: number) => string>> = {
  postgresql: (to) => `generate_series(1, ${to}) AS s (n)`,
  mariadb: (to) => `(SELECT seq AS n FROM seq_1_to_${to}) AS s`,
  sqlite: (to) =>
    `(WITH RECURSIVE c (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < ${to}) SELECT n FROM c) AS s`,
}

for (const [name, open] of Object.entries(openers)) {
  const { store, run, close } = await open()
  const { name: dialect, identifier: q } = store.dialect
  for (const statement of createTables(model, store.dialect)) await store.query(statement, [])
  const fill = (table: string, columns: readonly string[], values: string, to: number) =>
    store.query(
      `INSERT INTO ${q(table)} (${columns.map(q).join(', ')}) SELECT ${values} FROM ${NUMBERS[dialect]?.(to)}`,
      [],
    )
  await fill('members', ['id'], 'n', LEVEL)
  await fill(
    'beds',
    ['id', 'insideId', 'keeperId'],
    `n, CASE WHEN n > ${LEVEL} THEN n - ${LEVEL} END, CASE WHEN n <= ${LEVEL} THEN n END`,
    LEVEL * DEEP,
  )
  await fill('crops', ['id', 'bedId', 'growerId'], `n, 1 + n % ${LEVEL * DEEP}, 1 + n % ${LEVEL - 7}`, CROPS)
  if (dialect !== 'mariadb') await store.query('ANALYZE', [])
  else await store.query('ANALYZE TABLE beds, crops', [])
  const [chain, plain] = [true, false].map((each) => createGuard({ rules: rulesWith(each), store }).as({ id: 77 }))
  if (!chain || !plain) continue
  const byHand = run(
    `SELECT count(*) FROM ${q('crops')} WHERE ${q('growerId')} = @ OR ${q('bedId')} IN (WITH RECURSIVE down AS (SELECT ${q('id')} AS k FROM ${q('beds')} WHERE ${q('keeperId')} = @ UNION SELECT b.${q('id')} FROM ${q('beds')} b JOIN down ON b.${q('insideId')} = down.k) SELECT k FROM down)`,
  )
  // The crop of the innermost bed.
  const key = LEVEL * (DEEP - 1) + 76
  const times = await takeTurns(
    {
      'count, by hand': () => byHand([77]),
      'count, chain': () => chain.count('crops'),
      'count, own bed alone': () => plain.count('crops'),
      'list of 50, chain': () => chain.list('crops', { limit: 50 }),
      'list of 50, own bed alone': () => plain.list('crops', { limit: 50 }),
      'get, chain': () => chain.get('crops', key),
      'get, own bed alone': () => plain.get('crops', 77 * 10_000 - 1_000).catch(() => undefined),
    },
    4000,
  )
  console.log(name, `${await chain.count('crops')} of ${CROPS} crops reached`)
  for (const [task, time] of Object.entries(times)) console.log(`  ${task}: ${time.toFixed(3)} ms`)
  await close()
}
