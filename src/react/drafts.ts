import { accepts, type FieldData, fromJson, type ModelData, tableOf, toJson } from '../model/index.js'

type Values = Readonly<Record<string, unknown>>

/** What was typed and not yet stored, kept for the tab while whoever typed it signs in again. */
export interface Draft {
  /** Whose it is: nobody else gets to see it. Nothing where they had not signed in when they typed it. */
  readonly by: string | null
  readonly values: Values
  /** The mark of the record that was being changed. */
  readonly tag?: string
}

interface Kept {
  getItem(key: string): string | null
  setItem(key: string, value: string): void
  removeItem(key: string): void
  key(at: number): string | null
  readonly length: number
}

const PREFIX = 'pachter-draft '

/** A browser that keeps nothing is one where nothing is kept. */
function kept(): Kept | undefined {
  try {
    return (globalThis as unknown as { readonly sessionStorage?: Kept }).sessionStorage
  } catch {
    return undefined
  }
}

export function keepDraft(model: ModelData, table: string, form: string, draft: Draft): void {
  try {
    const values = convert(model, table, draft.values, (field, value) =>
      accepts(field, value) ? toJson(field, value) : value,
    )
    kept()?.setItem(PREFIX + form, JSON.stringify({ ...draft, values }))
  } catch {
    // Where there is no room, what was typed is still in the form.
  }
}

/** What was kept of a form, once: whose form it is takes it. */
export function takeDraft(model: ModelData, table: string, form: string, by: string): Draft | undefined {
  const written = kept()?.getItem(PREFIX + form)
  if (written === null || written === undefined) return undefined
  kept()?.removeItem(PREFIX + form)
  try {
    const draft = JSON.parse(written) as Draft
    if (draft.by !== null && draft.by !== by) return undefined
    const values = convert(model, table, draft.values, (field, plain) => {
      const value = fromJson(field, plain)
      // What was typed and is no value of the field's stays as it was typed.
      return accepts(field, value) ? value : plain
    })
    return { ...draft, values }
  } catch {
    return undefined
  }
}

const convert = (
  model: ModelData,
  table: string,
  values: Values,
  each: (field: FieldData, value: unknown) => unknown,
): Values => {
  const { fields } = tableOf(model, table)
  return Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, fields[name] ? each(fields[name], value) : value]),
  )
}

export function forgetDrafts(): void {
  const storage = kept()
  if (!storage) return
  const keys = Array.from({ length: storage.length }, (_, at) => storage.key(at) ?? '')
  for (const key of keys) if (key.startsWith(PREFIX)) storage.removeItem(key)
}
