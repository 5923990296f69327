import { hash } from 'node:crypto'
import { type ModelData, toPlain } from '../model/index.js'

/** Writes records as JSON: moments as RFC 3339 has them, whole numbers of 64 bits as text, bytes as hexadecimal digits. */
export type WriteJson = (value: unknown) => string

/** How the records of a model are written. */
export function jsonWriter({ tables }: ModelData): WriteJson {
  const shapes = Object.values(tables).flatMap(({ fields }) => Object.values(fields))
  const isPlain = shapes.every(({ type, item }) => type !== 'bytes' && type !== 'bigInteger' && item !== 'bigInteger')
  // Most models need no look at each value.
  return isPlain ? (value) => JSON.stringify(value) : (value) => JSON.stringify(value, plain)
}

function plain(_name: string, value: unknown): unknown {
  if (typeof value === 'bigint') return toPlain({ type: 'bigInteger' }, value)
  return value instanceof Uint8Array ? toPlain({ type: 'bytes' }, value) : value
}

/** The entity tag of what is sent: the same for the same content, and only for that. */
export const tagOf = (body: string): string => `"${hash('sha256', body, 'base64url').slice(0, 27)}"`

/** What proxies that compress make of our tags: weak ones, or such as name how it was done. Their text is that of the content still. */
const CHANGED = /^(?:W[/])?("[\w-]{27})(?:-(?:gzip|br|zstd|deflate))?"$/

/**
 * Whether one of the tags that a request names is this one, or what a proxy made of it.
 *
 * @param given `If-Match` or `If-None-Match`
 */
export const isAmong = (given: string, tag: string): boolean =>
  given.trim() === '*' || given.split(',').some((each) => each.trim().replace(CHANGED, '$1"') === tag)
