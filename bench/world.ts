// Korenveld at any size, generated inside the database, the same in each: who reaches how much is known.
import { defineCaller, defineRules, integer } from 'pachter'
import { createTables, type Dialect, resumeNumbers } from 'pachter/sql'
import type { SqlStore } from 'pachter/sql'
import { model } from '../examples/allotment/model.js'

/** Three ties joined by OR, as measured: an own field, a share table, the parent's field. */
export const rules = defineRules(model, defineCaller({ id: integer() }, { roles: ['warden'] }), {
  entries: ({ row, caller, role, now, table }) =>
    table
      .ties({
        author: row.authorId.is(caller.id),
        reader: row.entryShares.some((share) => share.memberId.is(caller.id)),
        plotHolder: row.plot.holderId.is(caller.id),
      })
      .actions('pin', 'archive')
      .grants({
        pin: ['author', 'plotHolder'],
        archive: ['author', role('warden')],
        read: ['author', 'reader', 'plotHolder', role('warden')],
        create: ['author'],
        update: [{ to: 'author', fields: ['title', 'body', 'audience'] }],
        delete: ['author', role('warden')],
      })
      .stamps({ create: { authorId: caller.id, createdAt: now }, update: { updatedAt: now } })
      // Nobody sees plots here.
      .conflicts('told'),
})

/** Members who reach about so many of a million entries, through all three ties. */
export const REACHES = { 0: { id: 9_000 }, 100: { id: 1 }, '100,000': { id: 2 }, all: { id: 3 } } as const

/** How each database counts from 1 to a number, as `n`. */
export const NUMBERS: Readonly<Record<Dialect['name'], (last: number) => string>> = {
  postgresql: (last) => `generate_series(1::bigint, ${last}) AS numbers (n)`,
  mariadb: (last) => `(SELECT seq AS n FROM seq_1_to_${last}) AS numbers`,
  sqlite: (last) =>
    `(WITH RECURSIVE numbers (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM numbers WHERE n < ${last}) SELECT n FROM numbers) AS numbers`,
}

/** What gathers statistics for the planner. */
const ANALYSE: Readonly<Record<Dialect['name'], string>> = {
  postgresql: 'VACUUM ANALYZE',
  sqlite: 'ANALYZE',
  mariadb: 'ANALYZE TABLE members, sites, plots, entries, entryShares',
}

/** Spreads the plots over the entries, so that neighbours in one are none in the other. */
const plotOf = (n: string, plots: number): string => `((${n} * 7919) % ${plots} + 1)`

/** Fills an empty database with so many entries, a fiftieth as many plots, some 800,000 shares to a million, and members, 10,000 or more. */
export async function generate(store: SqlStore, entries = 1_000_000, members = 10_000): Promise<void> {
  const { dialect } = store
  const plots = entries / 50
  const q = dialect.identifier
  const numbers = NUMBERS[dialect.name]
  const list = dialect.name === 'postgresql' ? `'{}'::text[]` : `'[]'`
  const moment = dialect.name === 'sqlite' ? `'2026-11-23T09:00:00.000Z'` : `'2026-11-23 09:00:00'`
  const typed = dialect.name === 'postgresql' ? `timestamptz ${moment}` : moment
  const text = (parts: readonly string[]) =>
    dialect.name === 'sqlite' ? parts.join(' || ') : `concat(${parts.join(', ')})`
  const fill = (
    table: 'members' | 'sites' | 'plots' | 'entries' | 'entryShares',
    columns: Record<string, string>,
    last: number,
    where = 'TRUE',
  ) =>
    store.query(
      `INSERT INTO ${q(table)} (${Object.keys(columns).map(q).join(', ')}) SELECT ${Object.values(columns).join(', ')} FROM ${numbers(last)} WHERE ${where}`,
      [],
    )
  for (const statement of createTables(model, dialect)) await store.query(statement, [])
  await fill('sites', { id: 'n', name: text([`'Site '`, 'n']), address: `'-'` }, 20)
  await fill(
    'members',
    {
      id: 'n',
      name: text([`'Member '`, 'n']),
      email: text([`'m'`, 'n', `'@korenveld.example'`]),
      duties: list,
      joinedAt: typed,
    },
    members,
  )
  // Plot 1 is held by member 1, the next 600 in 20,000 by member 2, one in ten by anyone, the rest by member 3.
  const holder = `CASE WHEN n = 1 THEN 1 WHEN n <= ${Math.round(plots * 0.03) + 1} THEN 2 WHEN n % 10 = 0 THEN 10 + n % 5000 ELSE 3 END`
  await fill(
    'plots',
    { id: 'n', siteId: '1 + n % 20', number: text([`'P'`, 'n']), areaM2: '100', holderId: holder },
    plots,
  )
  const author = `CASE WHEN n % ${Math.round(entries / 30)} = 5 THEN 1 WHEN n % 25 = 2 THEN 2 WHEN n % 3 = 0 THEN 3 ELSE 10 + n % 8000 END`
  await fill(
    'entries',
    {
      id: 'n',
      plotId: plotOf('n', plots),
      authorId: author,
      audience: `'private'`,
      title: text([`'Entry '`, 'n']),
      body: `'Sowed, watered, weeded. What a plot asks of a person in a week, and what it gives back.'`,
      createdAt: typed,
    },
    entries,
  )
  const share = (member: string, where: string) =>
    fill('entryShares', { entryId: 'n', memberId: member, level: `'view'` }, entries, where)
  await share('1', `n % ${Math.round(entries / 20)} = 7`)
  await share('2', 'n % 31 = 3')
  const plot = plotOf('n', plots)
  await share('3', `${plot} <= ${Math.round(plots * 0.03) + 1} OR ${plot} % 10 = 0`)
  await share('10 + n % 7000', 'n % 2 = 0')
  for (const table of Object.keys(model.tables)) {
    const resumed = resumeNumbers(model, dialect, table)
    if (resumed) await store.query(resumed, [])
  }
  await store.query(ANALYSE[dialect.name], [])
}
