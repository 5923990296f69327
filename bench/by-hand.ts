// The best SQL a skilled person would write for each task: every form known, of which the fastest counts.
import type { Dialect } from 'pachter/sql'

/** A query by hand: text with one mark `@` for each place where the member's id goes, `#` for a key. */
type Queries = Readonly<Record<string, string>>

/** The forms of the condition, for one database, with what they select from. */
function sources({ name, identifier: q }: Dialect): Queries {
  const [entries, shares, plots, id] = ['entries', 'entryShares', 'plots', 'id'].map(q) as [
    string,
    string,
    string,
    string,
  ]
  const own = `e.${q('authorId')} = @`
  const shared = `SELECT s.${q('entryId')} FROM ${shares} AS s WHERE s.${q('memberId')} = @`
  const held = `SELECT p.${id} FROM ${plots} AS p WHERE p.${q('holderId')} = @`
  const exists = (equal: string, end: string) =>
    `${own} OR EXISTS (SELECT 1 FROM ${shares} AS s WHERE s.${q('entryId')} ${equal} e.${id} AND s.${q('memberId')} = @${end})` +
    ` OR EXISTS (SELECT 1 FROM ${plots} AS p WHERE p.${id} ${equal} e.${q('plotId')} AND p.${q('holderId')} = @${end})`
  const keys =
    `SELECT e.${id} FROM ${entries} AS e WHERE ${own} UNION ${shared} UNION ` +
    `SELECT e.${id} FROM ${entries} AS e JOIN ${plots} AS p ON p.${id} = e.${q('plotId')} WHERE p.${q('holderId')} = @`
  const where = (condition: string) => `${entries} AS e WHERE (${condition})`
  return {
    'EXISTS per branch': where(exists('=', '')),
    ...(name === 'postgresql' && { 'EXISTS kept apart': where(exists('=', ' OFFSET 0')) }),
    ...(name === 'mariadb' && { 'EXISTS kept apart': where(exists('<=>', '')) }),
    'IN per branch': where(`${own} OR e.${id} IN (${shared}) OR e.${q('plotId')} IN (${held})`),
    ...(name === 'postgresql' && {
      'ANY (ARRAY) per branch': where(
        `${own} OR e.${id} = ANY (ARRAY(${shared})) OR e.${q('plotId')} = ANY (ARRAY(${held}))`,
      ),
    }),
    'join of a UNION': `${entries} AS e JOIN (${keys}) AS u ON u.${id} = e.${id} WHERE (TRUE)`,
    ...(name !== 'mariadb' && { 'IN a UNION': where(`e.${id} IN (${keys})`) }),
  }
}

/** What people write: an OR of correlated EXISTS. */
export const PLAIN = 'EXISTS per branch'

const columns = ({ identifier: q }: Dialect): string =>
  ['id', 'plotId', 'authorId', 'audience', 'title', 'body', 'createdAt', 'updatedAt']
    .map((name) => `e.${q(name)}`)
    .join(', ')

/** All ways to do a task by hand. */
export function byHand(dialect: Dialect, task: 'count' | 'list' | 'page' | 'far'): Queries {
  const id = `e.${dialect.identifier('id')}`
  const forms = Object.entries(sources(dialect)).map(([form, source]) => {
    if (task === 'count') return [form, `SELECT count(*) AS n FROM ${source}`] as const
    const after = task === 'page' ? ` AND ${id} > #` : ''
    return [
      form,
      `SELECT ${columns(dialect)} FROM ${source}${after} ORDER BY ${id} LIMIT 50${task === 'far' ? ' OFFSET 5000' : ''}`,
    ] as const
  })
  return Object.fromEntries([...forms, ...(task === 'list' || task === 'far' ? [topOfEach(dialect, task)] : [])])
}

/** The first records of each branch, and of these the first. */
function topOfEach(dialect: Dialect, task: 'list' | 'far'): readonly [string, string] {
  const q = dialect.identifier
  const [most, end] = task === 'far' ? [5_050, ' OFFSET 5000'] : [50, '']
  const id = q('id')
  const top = (query: string, by: string) => `SELECT * FROM (${query} ORDER BY ${by} LIMIT ${most}) AS t`
  const own = top(`SELECT e.${id} FROM ${q('entries')} AS e WHERE e.${q('authorId')} = @`, `e.${id}`)
  const shared = top(
    `SELECT s.${q('entryId')} AS ${id} FROM ${q('entryShares')} AS s WHERE s.${q('memberId')} = @`,
    `s.${q('entryId')}`,
  )
  const held = top(
    `SELECT e.${id} FROM ${q('entries')} AS e WHERE e.${q('plotId')} IN (SELECT p.${id} FROM ${q('plots')} AS p WHERE p.${q('holderId')} = @)`,
    `e.${id}`,
  )
  return [
    'first of each branch',
    `SELECT ${columns(dialect)} FROM ${q('entries')} AS e JOIN (${own} UNION ${shared} UNION ${held}) AS u ON u.${id} = e.${id} ORDER BY e.${id} LIMIT 50${end}`,
  ]
}

/** The columns and the whole condition for one record known by its key. */
export function pointByHand(dialect: Dialect): string {
  return `SELECT ${columns(dialect)} FROM ${sources(dialect)[PLAIN]} AND e.${dialect.identifier('id')} = #`
}

/** A title and the moment of the change, for a record of one's own; it comes back, where the database can return it. */
export function updateByHand(dialect: Dialect): string {
  const q = dialect.identifier
  const back = dialect.returning ? ` RETURNING ${columns(dialect).replaceAll('e.', '')}` : ''
  return `UPDATE ${q('entries')} SET ${q('title')} = ?, ${q('updatedAt')} = ? WHERE ${q('id')} = ? AND ${q('authorId')} = ?${back}`
}
