import { fieldOf, fromJson, type ModelData, tableOf } from '../model/index.js'
import { badBody, RequestError } from './errors.js'
import { HTTP_LIMITS } from './limits.js'

/** The media types of a body that has the values of a record. */
export const JSON_TYPES = ['application/json'] as const
/** The same for a change (RFC 7386). */
export const PATCH_TYPES = ['application/merge-patch+json', 'application/json'] as const

type Values = Readonly<Record<string, unknown>>

/**
 * Reads a JSON object.
 *
 * @param types the media types it may have
 * @param optional whether there may be none
 * @throws {RequestError} 413 where it is too large, 415 where it is of another type, 400 where it cannot be read
 */
export async function readObject(request: Request, types: readonly string[], optional = false): Promise<Values> {
  const { headers } = request
  const text = await limitedText(request)
  if (optional && text === '') return {}
  const type = (headers.get('content-type') ?? '').split(';')[0]?.trim().toLowerCase()
  if (!type || !types.includes(type) || headers.has('content-encoding')) {
    const accept = request.method === 'PATCH' ? 'accept-patch' : 'accept-post'
    throw new RequestError(415, 'media-type-unsupported', `Send ${types.join(' or ')}, not compressed.`, {
      [accept]: types.join(', '),
    })
  }
  const body = parseStrictly(text)
  if (isObject(body)) return body
  throw badBody('The body must be a JSON object.')
}

/** Whether a value is an object of JSON. */
export const isObject = (value: unknown): value is Values =>
  typeof value === 'object' && value !== null && !Array.isArray(value)

async function limitedText({ body, headers }: Request): Promise<string> {
  const tooLarge = () => new RequestError(413, 'body-too-large', `A body has at most ${HTTP_LIMITS.bodyBytes} bytes.`)
  if (Number(headers.get('content-length') ?? 0) > HTTP_LIMITS.bodyBytes) throw tooLarge()
  if (!body) return ''
  const decoder = new TextDecoder('utf-8', { fatal: true })
  let text = ''
  let bytes = 0
  try {
    for await (const chunk of body as unknown as AsyncIterable<Uint8Array>) {
      bytes += chunk.byteLength
      if (bytes > HTTP_LIMITS.bodyBytes) throw tooLarge()
      text += decoder.decode(chunk, { stream: true })
    }
    return text + decoder.decode()
  } catch (error) {
    if (error instanceof RequestError) throw error
    throw badBody('The body is not UTF-8, or did not come whole.')
  }
}

/**
 * JSON of which there is one reading: a name that stands twice in an object is refused, since readers disagree on which
 * counts.
 *
 * @see https://www.rfc-editor.org/rfc/rfc8259#section-4
 */
export function parseStrictly(text: string): unknown {
  let body: unknown
  try {
    body = JSON.parse(text)
  } catch {
    throw badBody('The body is not JSON.')
  }
  // As many names were read as stand in the text, unless one stands there twice.
  if (namesIn(body) !== namesWritten(text)) throw badBody('A name stands twice in an object of the body.')
  return body
}

const NAME_OR_TEXT = /"(?:[^"\\]|\\.)*"(\s*:)?/g

function namesWritten(text: string): number {
  let names = 0
  for (const [, colon] of text.matchAll(NAME_OR_TEXT)) if (colon !== undefined) names += 1
  return names
}

function namesIn(value: unknown, depth = 0): number {
  if (typeof value !== 'object' || value === null) return 0
  if (depth > HTTP_LIMITS.bodyDepth) throw badBody(`A body nests at most ${HTTP_LIMITS.bodyDepth} deep.`)
  let names = Array.isArray(value) ? 0 : Object.keys(value).length
  if (names > HTTP_LIMITS.bodyNames) throw badBody(`An object in a body has at most ${HTTP_LIMITS.bodyNames} names.`)
  for (const part of Object.values(value)) names += namesIn(part, depth + 1)
  return names
}

/** Values of a record as JSON holds them, as the model has them; what does not fit stays as it is, and is refused later. */
export function valuesFrom(model: ModelData, table: string, body: Values): Record<string, unknown> {
  const { fields } = tableOf(model, table)
  const values = Object.entries(body).map(([name, value]) => [
    name,
    Object.hasOwn(fields, name) ? fromJson(fieldOf(model, table, name), value) : value,
  ])
  return Object.fromEntries(values) as Record<string, unknown>
}
