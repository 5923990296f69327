import { placeNamed, type SqlStore } from '../../sql/index.js'
import type { DraftField } from '../draft/draft.js'
import { quoted } from '../draft/model-text.js'
import type { Proposal } from '../propose/proposal.js'

/** Somebody to look through: a name for them, and what a caller has, as TypeScript. */
export interface Sample {
  readonly name: string
  readonly written: string
}

const NAMES = ['first', 'second', 'third'] as const

/** A few people from the database, by their keys. */
export async function samplePeople(
  { dialect, query }: Pick<SqlStore, 'dialect' | 'query'>,
  { people, organisation }: Proposal,
): Promise<readonly Sample[]> {
  const key = people?.fields.find(({ data }) => data.key)
  if (!people || !key) return []
  const own = people.fields.find(({ name }) => name === organisation?.field)
  const quote = (name: string) => dialect.identifier(name)
  const columns = [key, ...(own ? [own] : [])].map(({ column }, at) => `${quote(column)} AS v${at}`)
  const { rows } = await query(
    `SELECT ${columns.join(', ')} FROM ${placeNamed(dialect, people.stored)} ORDER BY ${quote(key.column)} LIMIT ${NAMES.length}`,
    [],
  )
  return rows.map((row, at) => ({
    name: NAMES[at] as string,
    written: [
      `id: ${valueText(key, row['v0'])}`,
      ...(own && row['v1'] !== null ? [`${own.name}: ${valueText(own, row['v1'])}`] : []),
    ].join(', '),
  }))
}

/** SQLite keeps texts in columns of numbers: only what is a number is written as one. */
function valueText({ data }: DraftField, value: unknown): string {
  const text = String(value)
  if (!/^-?\d+$/.test(text)) return quoted(text)
  return data.type === 'integer' ? text : data.type === 'bigInteger' ? `${text}n` : quoted(text)
}
