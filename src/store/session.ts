import type { Caller, Rulebook } from '../rules/index.js'
import type { KeyValues } from '../model/index.js'
import { type Dialect, keySlot, type Statement } from '../sql/index.js'
import type { Decision } from './decisions.js'
import type { Plans } from './plans.js'
import type { Reaches } from './reaches.js'
import { inSavepoint } from './in-transaction.js'
import type { Connection, Outcome, Store } from './store.js'

/** One caller at work: the rules, the database, who it is and what time it is. */
export interface Session {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  readonly store: Store
  /** Where statements run: the store itself, or the connection of a transaction. */
  readonly connection: Connection
  /** How many transactions this session is inside of. */
  readonly depth: number
  readonly caller: Caller
  readonly clock: () => Date
  readonly validators: Validators
  /** The plans for callers of this one's shape. */
  readonly plans: Plans
  /** What plans depend on of the caller. */
  readonly shape: string
  /** Who the caller is, as text. */
  readonly who: () => string
  readonly reaches: Reaches
  /** Told of every decision; nothing where nobody listens. */
  readonly onDecision?: (decision: Decision) => void
}

/**
 * A validator that speaks Standard Schema, version 1.
 * @see https://standardschema.dev
 */
export interface StandardValidator {
  readonly '~standard': {
    readonly version: 1
    readonly validate: (value: unknown) => ValidationResult | Promise<ValidationResult>
  }
}

interface ValidationResult {
  readonly issues?:
    | readonly {
        readonly message: string
        readonly path?: readonly (PropertyKey | { readonly key: PropertyKey })[] | undefined
      }[]
    | undefined
}

/** Validators for the values of a create or an update, by table. */
export type Validators<T extends string = string> = Readonly<
  Partial<Record<T, { readonly create?: StandardValidator; readonly update?: StandardValidator }>>
>

/** Runs a statement with the caller's, the clock's and the given values in its slots. */
export function run(
  { connection, caller, clock }: Session,
  statement: Statement,
  given: Readonly<Record<string, unknown>> = {},
  now?: Date,
): Outcome | Promise<Outcome> {
  return connection.query(statement.text, statement.bind({ caller, given, clock: now ? () => now : clock }))
}

/** Runs work in a transaction, all or nothing; inside another transaction, in a part of it. */
export function atomically<T>(session: Session, work: (inside: Session) => Promise<T>): Promise<T> {
  const { store, connection, depth } = session
  if (depth > 0) return inSavepoint(connection, `pachter_${depth}`, () => work({ ...session, depth: depth + 1 }))
  return store.transaction((inside) => work({ ...session, connection: inside, depth: 1 }))
}

/** What was worked out for callers of this shape before, or is now. */
export function planned<T>({ plans }: Session, name: string, make: () => T): T {
  return plans.get(name, make)
}

/** The parts of one key or several under the names that their slots have. */
export function keySlots(...keys: readonly KeyValues[]): Record<string, unknown> {
  const slots: Record<string, unknown> = {}
  for (const [at, key] of keys.entries()) for (const name in key) slots[keySlot(name, at)] = key[name]
  return slots
}

/**
 * Goes on with an answer as soon as it is there. A database inside the process has answered already, and waiting
 * for it all the same would take longer than the query.
 */
export function withAnswer<A, B>(answer: A | Promise<A>, work: (answer: A) => B | Promise<B>): B | Promise<B> {
  return answer instanceof Promise ? answer.then(work) : work(answer)
}

/** What a validator finds wrong with values, by field; what it says of no field stands under `values`. */
export function problemsFound(
  { validators }: Session,
  table: string,
  action: 'create' | 'update',
  values: unknown,
): Record<string, string> | Promise<Record<string, string>> {
  const validator = Object.hasOwn(validators, table) ? validators[table]?.[action] : undefined
  if (!validator) return NO_PROBLEMS
  return withAnswer(validator['~standard'].validate(values), ({ issues = [] }) =>
    Object.fromEntries(
      issues.map(({ path: [first = 'values'] = [], message }) => [
        String(typeof first === 'object' ? first.key : first),
        message,
      ]),
    ),
  )
}

const NO_PROBLEMS = Object.freeze({})
