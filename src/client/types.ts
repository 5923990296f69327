import type { Access } from '../decide/index.js'
import type { KeyOf, Model, RelationsOf, TableName, ValuesOf, VisibleRecord } from '../model/index.js'
import type { AnyActions, OwnAction, Rules } from '../rules/index.js'
import type { ListQuery, RecordQuery } from './address.js'
import type { AnswerError } from './errors.js'
import type { SessionEar, SessionState } from './session.js'

/** A record as a list or a get brings it, by what was asked. */
export type Fetched<M, T extends TableName<M>, Q = unknown> = VisibleRecord<M, T> &
  (Q extends { readonly access: true } ? { readonly $access: Access; readonly $tag?: string } : unknown) &
  (Q extends { readonly with: infer W } ? Along<M, T, W> : unknown)

type Along<M, T extends TableName<M>, W> = {
  readonly [R in keyof W & keyof RelationsOf<M, T>]: RelationsOf<M, T>[R] extends {
    table: infer C extends TableName<M>
    one: infer One
  }
    ? One extends true
      ? Fetched<M, C, W[R]> | null
      : readonly Fetched<M, C, W[R]>[]
    : never
}
/** A page of a list. */
export interface Page<R> {
  readonly records: readonly R[]
  /** Where the next page begins, for `after`; left out on the last. */
  readonly next?: string
}

/** A list that is followed, as it is at the moment. */
export interface LivePage<R> {
  readonly records: readonly R[]
  /** Whether there are more records than these. */
  readonly more: boolean
}

/** What hears of a list that is followed. */
export interface LiveEars<R> {
  /** Each time it is another, the first time included. */
  records(page: LivePage<R>): void
  /** It is not listed to this caller, or not any more. */
  refused?(error: AnswerError): void
}

/** How a write is sent. */
export interface SendOptions {
  /** The mark of the record as it was read, `$tag`: where it has changed since, nothing is written, and 412 comes. */
  readonly tag?: string | undefined
}

/** Where the server is. */
export interface ClientOptions<M, C, A> {
  /** The model whose records they are. */
  readonly model: M
  /** The rules, where pages may know them: for verdicts in the browser, which are a courtesy. */
  readonly rules?: Rules<M, C, A>
  /** The server, where it is another than the page's, such as `https://korenveld.example`. */
  readonly origin?: string
  /** Where records are served; left out, `/api`. */
  readonly base?: string
  /** Where lists are followed; left out, `/live`. */
  readonly live?: string
  /** Where the pages of sign-in are; left out, `/sign-in`. `null` where nobody signs in by this browser. */
  readonly signIn?: string | null
  /** Headers of each request, such as `Authorization`; those that are `undefined` are left out. */
  readonly headers?: () => Readonly<Record<string, string | undefined>>
  /** Asks the server; left out, `fetch`. */
  readonly fetch?: typeof fetch
}

/** The server's records, for an interface. Every method throws {@link AnswerError} where it was refused. */
export interface Client<M = Model, C = unknown, A = AnyActions> {
  readonly model: M
  readonly rules: Rules<M, C, A> | undefined
  /** A page of the records that the caller may list. */
  list<T extends TableName<M>, const Q extends ListQuery<M, T>>(
    table: T,
    query?: Q & ListQuery<M, T>,
  ): Promise<Page<Fetched<M, T, Q>>>
  /** One record. With `access: true` it has, as `$tag`, the mark that a change of it may name. */
  get<T extends TableName<M>, const Q extends RecordQuery<M, T>>(
    table: T,
    key: KeyOf<M, T>,
    query?: Q & RecordQuery<M, T>,
  ): Promise<Fetched<M, T, Q>>
  /**
   * Follows a list.
   *
   * @returns what ends it
   * @example
   * const stop = client.follow('entries', { limit: 20, access: true }, { records: ({ records }) => draw(records) })
   */
  follow<T extends TableName<M>, const Q extends ListQuery<M, T>>(
    table: T,
    query: Q & ListQuery<M, T>,
    ears: LiveEars<Fetched<M, T, Q>>,
  ): () => void
  /**
   * Stores a new record.
   *
   * @param once a text of its own for this record: sent again under it, the record is stored once
   */
  create<T extends TableName<M>>(
    table: T,
    values: ValuesOf<M, T>,
    options?: { readonly once?: string },
  ): Promise<VisibleRecord<M, T>>
  update<T extends TableName<M>>(
    table: T,
    key: KeyOf<M, T>,
    values: ValuesOf<M, T>,
    options?: SendOptions,
  ): Promise<VisibleRecord<M, T>>
  delete<T extends TableName<M>>(table: T, key: KeyOf<M, T>, options?: SendOptions): Promise<void>
  /** Does something of the table's own to a record. */
  act<T extends TableName<M>>(
    table: T,
    action: OwnAction<A, T>,
    key: KeyOf<M, T>,
    values?: ValuesOf<M, T>,
    options?: SendOptions,
  ): Promise<VisibleRecord<M, T>>
  /** Who has signed in, with the roles they have: as it was half a minute ago at most, and asked again where it may have changed. */
  session(): Promise<SessionState>
  /** The address that leads to signing in, and back to a page of this site; nothing where no page signs in. */
  signInAt(backTo: string): string | undefined
  /**
   * Signs out, here, in the other windows of this browser, and, where that is so, at the identity provider.
   *
   * @returns where to go next
   */
  signOut(): Promise<string>
  /**
   * Says, here and to the other windows of this browser, that somebody may have signed in or out in another way than by the
   * pages of sign-in: where a page gets a token by itself. A page that is loaded says so on its own.
   */
  tellSignedIn(): Promise<void>
  /**
   * Hears of whatever may make another of who has signed in.
   *
   * @returns what ends it
   */
  onSession(hear: SessionEar): () => void
  /** Whether changes come in at the moment; `true` as long as nothing is followed. */
  readonly isConnected: boolean
  /** Hears of that. */
  onConnection(hear: (is: boolean) => void): () => void
  /** Ends whatever is followed. */
  close(): void
}
