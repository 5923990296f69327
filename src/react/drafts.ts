/** What was typed and not yet stored, kept for the tab while whoever typed it signs in again. */
export interface Draft {
  /** Whose it is: nobody else gets to see it. */
  readonly by: string
  readonly values: Readonly<Record<string, unknown>>
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

export function keepDraft(form: string, draft: Draft): void {
  try {
    kept()?.setItem(PREFIX + form, JSON.stringify(draft))
  } catch {
    // Where there is no room, what was typed is still in the form.
  }
}

/** What was kept of a form, once: whose form it is takes it. */
export function takeDraft(form: string, by: string): Draft | undefined {
  const written = kept()?.getItem(PREFIX + form)
  if (written === null || written === undefined) return undefined
  kept()?.removeItem(PREFIX + form)
  try {
    const draft = JSON.parse(written) as Draft
    return draft.by === by ? draft : undefined
  } catch {
    return undefined
  }
}

export function forgetDrafts(): void {
  const storage = kept()
  if (!storage) return
  const keys = Array.from({ length: storage.length }, (_, at) => storage.key(at) ?? '')
  for (const key of keys) if (key.startsWith(PREFIX)) storage.removeItem(key)
}
