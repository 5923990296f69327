import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef } from 'react'
import type { AnswerError } from '../client/index.js'
import type { Access } from '../decide/index.js'
import {
  accepts,
  bigIntAsText,
  type FieldData,
  fieldOf,
  isMissing,
  keyPath,
  sameValue,
  tableOf,
} from '../model/index.js'
import { changesOf } from './changes.js'
import { useQueries } from './cache.js'
import { type AnyClient, type AnyRecord, type ForReactOptions, keyIn, RECORDS, SESSION } from './context.js'
import { keepDraft, takeDraft } from './drafts.js'
import { type FormState, freshState, isNobody, useStateOf } from './form-state.js'
import { type InputPropsOf, inputProps, readGiven } from './inputs.js'
import { settableIn, untouched } from './new-record.js'

/** What a form is for. */
export interface FormOptions {
  /**
   * The record to be changed, fetched with `access: true`; left out, a new one is made. `undefined` while it is being fetched:
   * until it is there, nothing can be changed and nothing is saved.
   */
  readonly record?: (AnyRecord & { readonly $access?: Access; readonly $tag?: string }) | undefined
  /** The values that a new record begins with. */
  readonly values?: AnyRecord
  /** Names the form, where a page has several for new records of a table. */
  readonly name?: string
  /** Called with the record once it is stored. */
  readonly onSaved?: (record: AnyRecord) => unknown
}

/** A form, for a page. */
export interface Form {
  readonly values: AnyRecord
  /** Whether something was typed that is not stored. */
  readonly isChanged: boolean
  readonly isSaving: boolean
  /** What the server said is wrong with each field. */
  readonly errors: Readonly<Record<string, string>>
  /** Why it was not stored, where that is about no field. */
  readonly problem: AnswerError | null
  /** Whether whoever typed has to sign in (again) before it can be stored; what was typed is kept. */
  readonly needsSignIn: boolean
  /** Whether what was typed before signing in was put back. */
  readonly isRestored: boolean
  /** The record as somebody else has changed it meanwhile: nothing was stored, and what was typed is still there. */
  readonly theirs: AnyRecord | null
  /** Whether a field is shown at all: one that is hidden from the caller is not. */
  shows(name: string): boolean
  /** Whether the caller may change it. */
  mayChange(name: string): boolean
  /**
   * What an input for a field takes, by its type: texts are read as the values they stand for, an emptied input is a missing
   * value.
   *
   * @throws {FormError} where no input writes it: `json` and `bytes`, whose values are given to `set`
   */
  field(name: string): InputPropsOf<string> | InputPropsOf<boolean> | InputPropsOf<readonly string[]>
  /** Puts values in, as somebody would who typed them. */
  set(values: AnyRecord): void
  /** Sends what was changed; of a record, only that. */
  save(event?: { preventDefault(): void }): Promise<void>
  /** Leaves what others wrote as it is, and forgets what was typed. */
  takeTheirs(): void
  /** The next save is upon what others wrote. */
  keepMine(): void
}

/** The hook for forms. */
export function formHooks(client: AnyClient, { standstill }: ForReactOptions) {
  const { model } = client

  function useForm(table: string, options: FormOptions = {}): Form {
    const { record, values: initial = {}, name = 'new', onSaved } = options
    // A record that is still being fetched is not a new one.
    const isNew = !Object.hasOwn(options, 'record')
    const queries = useQueries(client)
    const form = `${table} ${isNew ? name : record ? keyPath(model, table, record) : ''}`
    // Sent again, it is stored once: for those who have signed in, since it is kept for each.
    const once = useRef(crypto.randomUUID())
    // The form that is being sent: a second click comes before the first is drawn.
    const sending = useRef<string>(undefined)
    const { data: session } = useQuery({ queryKey: SESSION, queryFn: () => client.session(), staleTime: 60_000 })
    const by = session && (session.signedIn ? JSON.stringify(session.caller, bigIntAsText) : null)
    const { state, put, settle } = useStateOf(form, by)

    useEffect(() => {
      if (isNobody(by)) return
      const draft = takeDraft(model, table, form, by)
      if (draft) put((before) => ({ ...before, typed: draft.values, ...tagged(draft.tag), by, isRestored: true }))
      // What is put is put upon whatever is there then.
      // eslint-disable-next-line react-hooks/exhaustive-deps
    }, [table, form, by])
    useEffect(
      () => client.onSession((what) => what === 'signed-in' && settle((before) => ({ ...before, problem: null }))),
      // eslint-disable-next-line react-hooks/exhaustive-deps
      [form, by],
    )

    const settable = useMemo(() => (isNew ? settableIn(client, table, session) : undefined), [isNew, table, session])
    const current = state.base ?? record
    const base = current ?? { ...untouched(client, table, settable), ...initial }
    const values = { ...base, ...state.typed }
    const isOpen = (field: string) =>
      isNew ? settable?.has(field) !== false : record?.$access?.changeable.includes(field) === true
    const mayChange = (field: string) => standstill?.() === undefined && isOpen(field)

    /** Whether a field has an input, as far as that can be known: what was typed has, and all of a new record that was not given. */
    const isDrawn = (field: string) =>
      Object.hasOwn(state.typed, field) ||
      (isNew && Object.hasOwn(tableOf(model, table).fields, field) && isOpen(field) && !Object.hasOwn(initial, field))

    const type = (typed: AnyRecord, texts: Readonly<Record<string, string>> = {}) =>
      put((before) => ({
        ...before,
        ...(isNobody(before.by) && by !== undefined && { by }),
        ...(record && !before.base && { base: record }),
        typed: { ...before.typed, ...typed },
        texts: { ...without(before.texts, typed), ...texts },
        errors: without(before.errors, typed),
      }))

    async function save(event?: { preventDefault(): void }): Promise<void> {
      event?.preventDefault()
      if ((!isNew && !record) || sending.current === form) return
      sending.current = form
      put((before) => ({ ...before, isSaving: true, errors: {}, problem: null }))
      const changes = changesOf(client, queries, table)
      const sent = Object.fromEntries(
        Object.entries(isNew ? values : state.typed).filter(([field]) => mayChange(field)),
      )
      const tag = state.tag ?? (current?.['$tag'] as string | undefined)
      let stored: AnyRecord
      try {
        stored = record
          ? await changes.update(record, sent, { tag })
          : await changes.create(sent, isNobody(by) ? {} : { once: once.current })
      } catch (cause) {
        const error = cause as AnswerError
        if (error.needsSignIn && state.by !== undefined) {
          keepDraft(model, table, form, { by: state.by, values: state.typed, ...tagged(tag) })
        }
        const theirs = error.code === 'changed' ? await whatIsThere(values) : null
        settle((before) => ({ ...before, isSaving: false, ...shownOf(error, isDrawn), ...(theirs && { theirs }) }))
        return
      } finally {
        if (sending.current === form) sending.current = undefined
      }
      once.current = crypto.randomUUID()
      // What was typed while this was under way is still to be sent.
      settle((before) => ({
        ...freshState(form),
        ...unlike(before, state.typed),
        ...(before.by !== undefined && { by: before.by }),
      }))
      await onSaved?.(stored)
    }

    /** The record as others left it; nothing where it is not there any more for this caller. */
    const whatIsThere = (of: AnyRecord) =>
      client.get(table, keyIn(model, table, of), { access: true }).catch(() => null)

    return {
      values,
      isChanged: Object.entries(state.typed).some(
        ([field, value]) => !isSame(fieldOf(model, table, field), value, base[field]),
      ),
      isSaving: state.isSaving,
      errors: state.errors,
      problem: state.theirs ? null : state.problem,
      needsSignIn: state.problem?.needsSignIn === true,
      isRestored: state.isRestored,
      theirs: state.theirs,
      shows: (field) => (isNew ? isOpen(field) : record?.$access?.hidden.includes(field) !== true),
      mayChange,
      set: (given) => type(given),
      field: (field) =>
        inputProps(fieldOf(model, table, field), values[field], state.texts[field], {
          name: field,
          disabled: !mayChange(field),
          'aria-invalid': Object.hasOwn(state.errors, field) || undefined,
          onChange: (given) => {
            // An event tells its input only while it is being told.
            const { value, typed } = readGiven(fieldOf(model, table, field), given)
            type({ [field]: value }, typed === undefined ? {} : { [field]: typed })
          },
        }),
      save,
      takeTheirs: () => {
        put(() => freshState(form))
        void queries.invalidateQueries({ queryKey: [...RECORDS, table] })
      },
      keepMine: () =>
        put(({ theirs, ...before }) => ({
          ...before,
          ...tagged(theirs?.['$tag'] as string | undefined),
          theirs: null,
          problem: null,
        })),
    }
  }
  return { useForm }
}

const tagged = (tag: string | undefined) => (tag === undefined ? {} : { tag })

/** What was typed other than before. */
function unlike({ typed, texts }: FormState, before: AnyRecord): Pick<FormState, 'typed' | 'texts'> {
  const same = Object.fromEntries(Object.entries(before).filter(([name, value]) => typed[name] === value))
  return { typed: without(typed, same), texts: without(texts, same) }
}

/** What stands at fields; and all of it, where some is about what has no input. */
function shownOf(error: AnswerError, isDrawn: (name: string) => boolean): Pick<FormState, 'errors' | 'problem'> {
  const errors = error.fields ?? {}
  const names = Object.keys(errors)
  return { errors, problem: names.length > 0 && names.every(isDrawn) ? null : error }
}

const without = <V>(from: Readonly<Record<string, V>>, names: object): Readonly<Record<string, V>> =>
  Object.fromEntries(Object.entries(from).filter(([name]) => !Object.hasOwn(names, name)))

function isSame(field: FieldData, one: unknown, other: unknown): boolean {
  if (isMissing(one) || isMissing(other)) return isMissing(one) && isMissing(other)
  if (!accepts(field, one) || !accepts(field, other)) return one === other
  return field.type === 'json' ? JSON.stringify(one) === JSON.stringify(other) : sameValue(one, other)
}
