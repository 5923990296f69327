import { ChangedError, type UntypedStore } from '../guard/index.js'
import { fieldOf, type KeyValues, type ModelData, tableOf } from '../model/index.js'
import { RefusedError } from '../decide/index.js'
import { isObject } from './body.js'

type Values = Readonly<Record<string, unknown>>

/** How often a patch of a document is tried anew where others change it at the same time. */
const ATTEMPTS = 3

/**
 * Writes values in which documents are patches (RFC 7386): what stands in the document as the caller sees it, and is not in
 * the patch, stays. Fields of all other types are replaced, as they are without this.
 *
 * @param write writes the values; the documents are merged into what they were, provided that they still are
 */
export async function merged<T>(
  { model, table, store }: { readonly model: ModelData; readonly table: string; readonly store: UntypedStore },
  key: KeyValues,
  values: Values,
  write: (values: Values, unchanged?: (record: Values) => boolean) => Promise<T>,
): Promise<T> {
  const { fields } = tableOf(model, table)
  const patched = Object.keys(values).filter(
    (name) => Object.hasOwn(fields, name) && fieldOf(model, table, name).type === 'json' && isObject(values[name]),
  )
  if (patched.length === 0) return write(values)
  for (let tries = 1; ; tries += 1) {
    const before = await seen()
    const whole = Object.fromEntries(patched.map((name) => [name, merge(before[name], values[name])]))
    try {
      return await write({ ...values, ...whole }, (now) => patched.every((name) => isSame(now[name], before[name])))
    } catch (error) {
      if (!(error instanceof ChangedError) || tries === ATTEMPTS) throw error
    }
  }

  /** Nothing where the caller does not see it: the write says why. */
  async function seen(): Promise<Values> {
    try {
      return (await store.get(table, key, { fields: patched })) as Values
    } catch (error) {
      if (error instanceof RefusedError) return {}
      throw error
    }
  }
}

const isSame = (one: unknown, other: unknown): boolean => JSON.stringify(one) === JSON.stringify(other)

/** RFC 7386, section 2. */
function merge(target: unknown, patch: unknown): unknown {
  if (!isObject(patch)) return patch
  const result = new Map<string, unknown>(Object.entries(isObject(target) ? target : {}))
  for (const [name, value] of Object.entries(patch)) {
    if (value === null) result.delete(name)
    else result.set(name, merge(result.get(name), value))
  }
  return Object.fromEntries(result)
}
