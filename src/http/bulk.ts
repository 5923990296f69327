import type { BulkOutcome } from '../guard/index.js'
import { InputError, type KeyValues } from '../model/index.js'
import { tell } from './answer.js'
import { isObject, JSON_TYPES, readObject, valuesFrom } from './body.js'
import { badBody } from './errors.js'
import { keyFrom } from './path.js'
import { assertNoQuery } from './query/options.js'
import type { Visit } from './resource.js'

type Values = Readonly<Record<string, unknown>>

/** What a write of many records may say, by what it does. */
const SAID: Readonly<Record<string, readonly string[]>> = {
  create: ['records'],
  delete: ['keys'],
  update: ['keys', 'values'],
}

/**
 * Writes many records: `{ "action": "create", "records": […] }`, `{ "action": "update", "keys": […], "values": {…} }`,
 * `{ "action": "delete", "keys": […] }`, or an action of the table's own as `update`. All or none, or, with
 * `"partly": true`, those that are permitted.
 */
export async function bulk(visit: Visit): Promise<Response> {
  const { request, url, model, table, store, write } = visit
  assertNoQuery(url.searchParams)
  const body = await readObject(request, JSON_TYPES)
  const { action, partly = false } = body
  if (typeof action !== 'string')
    throw badBody('action must say what to do: create, update, delete, or one of the table.')
  const known = ['action', 'partly', ...(Object.hasOwn(SAID, action) ? (SAID[action] ?? []) : ['keys', 'values'])]
  for (const name of Object.keys(body))
    if (!known.includes(name)) throw badBody(`For ${action}, say ${known.join(', ')}.`)
  if (typeof partly !== 'boolean') throw badBody('partly must be true or false.')
  const values = valuesFrom(model, table, objectIn(body['values'] ?? {}, 'values'))
  const done = (await run()) as BulkOutcome<unknown> | readonly unknown[] | undefined
  const { written, refused } =
    Array.isArray(done) || !done ? { written: done ?? [], refused: [] } : (done as BulkOutcome<unknown>)
  return tell(request, write, {
    content: { written, refused: refused.map(({ key, status, message }) => ({ key, status, detail: message })) },
  })

  function run() {
    const options = { partly: partly as boolean }
    if (action === 'create')
      return store.createMany(
        table,
        recordsIn(body['records']).map((each) => valuesFrom(model, table, each)),
        options,
      )
    const keys = keysIn(visit, body['keys'])
    if (action === 'delete') return store.deleteMany(table, keys, options)
    if (action === 'update') return store.updateMany(table, keys, values, options)
    return store.actMany(table, action as string, keys, values, options)
  }
}

function objectIn(value: unknown, name: string): Values {
  if (isObject(value)) return value
  throw badBody(`${name} must be an object.`)
}

function recordsIn(value: unknown): readonly Values[] {
  if (Array.isArray(value) && value.every(isObject)) return value
  throw badBody('records must be a list of objects.')
}

/** Keys as paths write them, such as `7` or `"4,7"`. */
function keysIn({ model, table }: Visit, value: unknown): readonly KeyValues[] {
  if (!Array.isArray(value)) throw badBody('keys must be a list of keys, each as paths write it.')
  return value.map((each: unknown) => {
    const key = typeof each === 'string' || typeof each === 'number' ? keyFrom(model, table, String(each)) : undefined
    if (!key) throw new InputError(table, { keys: 'must be keys, each as paths write it' })
    return key
  })
}
