import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useRef, useState } from 'react'
import type { AnswerError } from '../client/index.js'
import type { Access } from '../decide/index.js'
import { covers, grantsFor, inForce, stampsFor } from '../rules/index.js'
import { changesOf } from './changes.js'
import { type AnyClient, type AnyRecord, type ForReactOptions, keyIn, RECORDS, SESSION } from './context.js'
import { keepDraft, takeDraft } from './drafts.js'

/** What a form is for. */
export interface FormOptions {
  /** The record to be changed, fetched with `access: true`; left out, a new one is made. */
  readonly record?: (AnyRecord & { readonly $access?: Access; readonly $tag?: string }) | undefined
  /** The values that a new record begins with. */
  readonly values?: AnyRecord
  /** Names the form, where a page has several for new records of a table. */
  readonly name?: string
  /** Called with the record once it is stored. */
  readonly onSaved?: (record: AnyRecord) => unknown
}

/** What an input of a form takes. */
export interface FieldProps<V = unknown> {
  readonly name: string
  /** What is typed or stored; an empty text where there is nothing. */
  readonly value: V
  readonly disabled: boolean
  readonly 'aria-invalid': true | undefined
  /** Takes a value, or the event of an input. */
  onChange(given: unknown): void
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
  field(name: string): FieldProps
  set(values: AnyRecord): void
  /** Sends what was changed; of a record, only that. */
  save(event?: { preventDefault(): void }): Promise<void>
  /** Leaves what others wrote as it is, and forgets what was typed. */
  takeTheirs(): void
  /** The next save is upon what others wrote. */
  keepMine(): void
}

interface State {
  readonly typed: AnyRecord
  /** The record that was being changed when the first was typed: whatever it becomes meanwhile, the change is of that. */
  readonly base: FormOptions['record']
  readonly errors: Readonly<Record<string, string>>
  readonly problem: AnswerError | null
  readonly theirs: AnyRecord | null
  readonly tag: string | undefined
  readonly isSaving: boolean
  readonly isRestored: boolean
}

const FRESH: State = {
  typed: {},
  base: undefined,
  errors: {},
  problem: null,
  theirs: null,
  tag: undefined,
  isSaving: false,
  isRestored: false,
}

/** The hook for forms. */
export function formHooks(client: AnyClient, { standstill }: ForReactOptions) {
  function useForm(table: string, { record, values: initial = {}, name = 'new', onSaved }: FormOptions = {}): Form {
    const queries = useQueryClient()
    const form = `${table} ${record ? JSON.stringify(keyIn(client.model, table, record)) : name}`
    const [state, setState] = useState<State>(FRESH)
    const once = useRef(crypto.randomUUID())
    const { data: session } = useQuery({ queryKey: SESSION, queryFn: () => client.session(), staleTime: 60_000 })
    const by = session && JSON.stringify(session.caller)
    const change = (some: Partial<State>) => setState((before) => ({ ...before, ...some }))

    useEffect(() => {
      const draft = by === undefined ? undefined : takeDraft(form, by)
      if (draft) setState({ ...FRESH, typed: draft.values, tag: draft.tag, isRestored: true })
    }, [form, by])
    useEffect(
      () => client.onSession((what) => what === 'signed-in' && setState((before) => ({ ...before, problem: null }))),
      [],
    )

    const current = state.base ?? record
    const base = current ?? initial
    const values = { ...base, ...state.typed }
    const settable = useMemo(() => (record ? undefined : settableIn(client, table)), [record, table])
    const isOpen = (field: string) =>
      record ? record.$access?.changeable.includes(field) === true : settable?.has(field) !== false
    const mayChange = (field: string) => standstill?.() === undefined && isOpen(field)

    async function save(event?: { preventDefault(): void }): Promise<void> {
      event?.preventDefault()
      change({ isSaving: true, errors: {}, problem: null })
      const changes = changesOf(client, queries, table)
      const sent = Object.fromEntries(
        Object.entries(record ? state.typed : { ...initial, ...state.typed }).filter(([field]) => mayChange(field)),
      )
      const tag = state.tag ?? current?.$tag
      try {
        const stored = record
          ? await changes.update(record, sent, { tag })
          : await changes.create(sent, { once: once.current })
        once.current = crypto.randomUUID()
        setState(FRESH)
        await onSaved?.(stored)
      } catch (cause) {
        const error = cause as AnswerError
        if (error.needsSignIn && by !== undefined) {
          keepDraft(form, { by, values: state.typed, ...(tag !== undefined && { tag }) })
        }
        const shown = Object.entries(error.fields ?? {})
        change({
          isSaving: false,
          errors: Object.fromEntries(shown),
          problem: shown.length > 0 ? null : error,
          ...(error.code === 'changed' && { theirs: await whatIsThere(values) }),
        })
      }
    }

    /** The record as others left it; nothing where it is not there any more for this caller. */
    const whatIsThere = (of: AnyRecord) =>
      client.get(table, keyIn(client.model, table, of), { access: true }).catch(() => null)

    return {
      values,
      isChanged: Object.entries(state.typed).some(([field, value]) => value !== base[field]),
      isSaving: state.isSaving,
      errors: state.errors,
      problem: state.theirs ? null : state.problem,
      needsSignIn: state.problem?.needsSignIn === true,
      isRestored: state.isRestored,
      theirs: state.theirs,
      shows: (field) => (record ? record.$access?.hidden.includes(field) !== true : isOpen(field)),
      mayChange,
      set: (some) =>
        setState((before) => ({ ...before, base: before.base ?? record, typed: { ...before.typed, ...some } })),
      field: (field) => ({
        name: field,
        value: values[field] ?? '',
        disabled: !mayChange(field),
        'aria-invalid': Object.hasOwn(state.errors, field) || undefined,
        onChange: (given) => {
          // An event tells its input only while it is being told.
          const value = valueOf(given)
          setState(({ errors: { [field]: _, ...errors }, ...before }) => ({
            ...before,
            errors,
            base: before.base ?? record,
            typed: { ...before.typed, [field]: value },
          }))
        },
      }),
      save,
      takeTheirs: () => {
        setState(FRESH)
        void queries.invalidateQueries({ queryKey: [...RECORDS, table] })
      },
      keepMine: () => change({ theirs: null, tag: state.theirs?.['$tag'] as string | undefined, problem: null }),
    }
  }
  return { useForm }
}

/** The value that somebody gave, be it as such or by the event of an input. */
function valueOf(given: unknown): unknown {
  const target = (given as { readonly currentTarget?: unknown } | null | undefined)?.currentTarget
  if (target === undefined || target === null) return given
  const { type, checked, value } = target as {
    readonly type?: string
    readonly checked?: boolean
    readonly value: unknown
  }
  return type === 'checkbox' ? checked : value
}

/** The fields that some grant could let be set in a new record, where the page knows the rules. */
function settableIn({ rules }: AnyClient, table: string): ReadonlySet<string> | undefined {
  if (!rules) return undefined
  const known = inForce(rules, table)
  const stamped = stampsFor(known, 'create')
  const names = Object.keys(rules.model.tables[table]?.fields ?? {}).filter((name) => !Object.hasOwn(stamped, name))
  return new Set(names.filter((name) => grantsFor(known, 'create').some((grant) => covers(grant, name))))
}
