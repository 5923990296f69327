import type { ReactElement } from 'react'
import type { AnswerError, Client, Fetched, ListQuery, RecordQuery } from '../client/index.js'
import type { Access } from '../decide/index.js'
import type {
  FieldName,
  KeyFields,
  KeyOf,
  RecordOf,
  TableName,
  TablesOf,
  ValuesOf,
  VisibleRecord,
} from '../model/index.js'
import type { OwnAction } from '../rules/index.js'
import { actComponents, type ActProps, type May } from './act.js'
import type { ForReactOptions } from './context.js'
import { changeHooks } from './changes.js'
import type { AnyClient } from './context.js'
import { type Form, formHooks, type FormOptions } from './form.js'
import type { InputPropsOf } from './inputs.js'
import { type ListHookOptions, type ListState, readHooks, type RecordState } from './reads.js'
import { type Session, sessionHooks } from './session.js'

/** What can be done to a record by name: changed, removed, or what is the table's own. */
type ActionOn<A, T extends string> = 'update' | 'delete' | OwnAction<A, T>

/** A record that says what may be done to it: listed or fetched with `access: true`. */
type WithAccess<M, T extends TableName<M>> = VisibleRecord<M, T> & { readonly $access: Access; readonly $tag?: string }

/** What names a record, and as much of it as there is. */
type Named<M, T extends TableName<M>> = Pick<RecordOf<M, T>, KeyFields<TablesOf<M>[T]> & FieldName<M, T>> &
  Partial<RecordOf<M, T>>

/** What the input of each field takes. */
type InputsOf<M, T extends TableName<M>> = { [F in FieldName<M, T>]: InputPropsOf<NonNullable<RecordOf<M, T>[F]>> }

/** The fields that an input can write: all but documents and bytes. */
type InputName<M, T extends TableName<M>> = {
  [F in FieldName<M, T>]: [InputsOf<M, T>[F]] extends [never] ? never : F
}[FieldName<M, T>]

/** Hooks and components for the pages of an application with this client. */
export interface ForReact<M, A> {
  /** Who has signed in. */
  useSession(): Session
  /** Whether changes of live lists come in at the moment. */
  useConnected(): boolean
  /**
   * A list, kept in the cache, and asked for again when this page changed something; with `live`, it follows changes.
   *
   * @example const { records, isLoading } = useList('entries', { access: true, orderBy: 'createdAt descending' }, { live: true })
   */
  useList<T extends TableName<M>, const Q extends ListQuery<M, T>>(
    table: T,
    query?: Q & ListQuery<M, T>,
    options?: ListHookOptions,
  ): ListState<Fetched<M, T, Q>>
  /** A record; with `access: true`, with the mark that a form needs. Nothing is asked for without a key. */
  useRecord<T extends TableName<M>, const Q extends RecordQuery<M, T>>(
    table: T,
    key: KeyOf<M, T> | undefined,
    query?: Q & RecordQuery<M, T>,
  ): RecordState<Fetched<M, T, Q>>
  /** Writes: what the rules let through in memory is shown at once, and taken back where the server says otherwise. */
  useChanges<T extends TableName<M>>(
    table: T,
  ): {
    create(values: ValuesOf<M, T>): Promise<VisibleRecord<M, T>>
    update(
      record: Named<M, T>,
      values: ValuesOf<M, T>,
      options?: { readonly tag?: string },
    ): Promise<VisibleRecord<M, T>>
    delete(record: Named<M, T>): Promise<void>
    act(action: OwnAction<A, T>, record: Named<M, T>, values?: ValuesOf<M, T>): Promise<VisibleRecord<M, T>>
  }
  /** Whether something may be done to a record, as the server said; why not, as far as this page can tell. */
  useMay<T extends TableName<M>>(table: T, record: WithAccess<M, T> | undefined, action: ActionOn<A, T>): May
  /**
   * A form: it locks what the caller may not change, leaves out what is hidden, puts what the server says at the fields it is
   * about, keeps what was typed when the session ends, and tells of what somebody else changed meanwhile.
   */
  useForm<T extends TableName<M>>(
    table: T,
    options?: Omit<FormOptions, 'record' | 'values' | 'onSaved'> & {
      readonly record?: WithAccess<M, T> | undefined
      readonly values?: ValuesOf<M, T>
      readonly onSaved?: (record: VisibleRecord<M, T>) => unknown
    },
  ): Omit<Form, 'field' | 'shows' | 'mayChange' | 'set' | 'values' | 'theirs'> & {
    readonly values: ValuesOf<M, T>
    readonly theirs: WithAccess<M, T> | null
    shows(name: FieldName<M, T>): boolean
    mayChange(name: FieldName<M, T>): boolean
    field<F extends InputName<M, T>>(name: F): InputsOf<M, T>[F]
    set(values: ValuesOf<M, T>): void
  }
  /** A button for an action: there, there with the reason why not, or not there. A delete is asked about first. */
  Act<T extends TableName<M>>(
    props: Omit<ActProps, 'table' | 'record' | 'action' | 'onRefused'> & {
      readonly table: T
      readonly record: WithAccess<M, T>
      readonly action: ActionOn<A, T>
      readonly onRefused?: (error: AnswerError) => unknown
    },
  ): ReactElement | null
}

/**
 * Hooks and components for React, on a client. What they show is what the server said (`$access`), and, where the client knows
 * the rules, what those say in memory: a courtesy to whoever looks at the page, which protects nothing.
 *
 * The cache is TanStack Query's: put a `QueryClientProvider` around the page.
 *
 * @param client from `createClient`
 * @param options.standstill why nothing can be changed at the moment, such as while somebody looks as another; nothing, where it can
 * @example
 * const { useList, Act } = forReact(createClient({ model, rules }))
 * function Entries() {
 *   const { records } = useList('entries', { access: true }, { live: true })
 *   return records.map((entry) => (
 *     <li key={entry.id}>
 *       {entry.title} <Act table="entries" record={entry} action="delete">Delete</Act>
 *     </li>
 *   ))
 * }
 */
export function forReact<M, C, A>(client: Client<M, C, A>, options: ForReactOptions = {}): ForReact<M, A> {
  const any = client as unknown as AnyClient
  const made = {
    ...sessionHooks(any),
    ...readHooks(any),
    ...changeHooks(any),
    ...formHooks(any, options),
    ...actComponents(any, options),
  }
  return made as unknown as ForReact<M, A>
}
