import { useState } from 'react'
import type { AnswerError } from '../client/index.js'
import type { AnyRecord } from './context.js'

/** What became of a form so far. */
export interface FormState {
  /** Which form it is: a page that goes on to another record has another. */
  readonly form: string
  /** Who typed it: `null` where they had not signed in; nobody yet, where nothing was typed. */
  readonly by?: string | null
  readonly typed: AnyRecord
  /** What was typed as text, as it was typed. */
  readonly texts: Readonly<Record<string, string>>
  /** The record that was being changed when the first was typed: whatever it becomes meanwhile, the change is of that. */
  readonly base?: AnyRecord
  readonly tag?: string
  readonly errors: Readonly<Record<string, string>>
  readonly problem: AnswerError | null
  readonly theirs: AnyRecord | null
  readonly isSaving: boolean
  readonly isRestored: boolean
}

export const freshState = (form: string): FormState => ({
  form,
  typed: {},
  texts: {},
  errors: {},
  problem: null,
  theirs: null,
  isSaving: false,
  isRestored: false,
})

/**
 * The state of a form, for as long as it is the same form, and as long as nobody else signs in: what one typed, another neither
 * sees nor sends.
 *
 * @param by who has signed in; `null` where nobody has, `undefined` where that is not known yet
 */
export function useStateOf(form: string, by: string | null | undefined) {
  const [kept, setKept] = useState<FormState>(() => freshState(form))
  const isOf = (state: FormState) => state.form === form && (isNobody(by) || isNobody(state.by) || state.by === by)
  return {
    state: isOf(kept) ? kept : freshState(form),
    /** What whoever is there does to the form. */
    put: (how: (before: FormState) => FormState) => setKept((before) => how(isOf(before) ? before : freshState(form))),
    /** What comes of it later: by then, the page may be at another form. */
    settle: (how: (before: FormState) => FormState) => setKept((before) => (isOf(before) ? how(before) : before)),
  }
}

export const isNobody = (by: string | null | undefined): by is null | undefined => by === null || by === undefined
