import type { Caller, Rulebook } from '../rules/index.js'
import type { KeyValues } from '../model/index.js'
import { type Compilation, type Dialect, keySlot, type Statement } from '../sql/index.js'
import type { Columns } from './columns.js'
import type { Decision } from './decision.js'
import { tellable } from './errors.js'
import { Level } from './level.js'
import type { ShapePlans } from './plans.js'
import type { Reaches } from './reaches.js'
import type { Connection, Outcome, Store } from './store.js'

/** One caller at work: the rules, the database, who it is and what time it is. */
export interface Session {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  readonly store: Store
  /** Where statements run: the store itself, or a transaction. */
  readonly connection: Connection
  /** The transaction, or the part of one, that this session is inside of. */
  readonly level?: Level
  /** What is known of the database's columns. */
  readonly columns: Columns
  readonly caller: Caller
  readonly clock: () => Date
  readonly validators: Validators
  /** The plans for callers of this one's shape. */
  readonly plans: ShapePlans
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

/** What everything is compiled with. */
export const compilationOf = ({ rulebook, dialect, columns }: Session): Compilation => ({
  rulebook,
  dialect,
  traits: columns.traits,
})

/** Finds out, once for each store, what has to be known of its columns; nothing to wait for where it is known. */
export function ready(session: Session): Promise<void> | undefined {
  const { columns, connection } = session
  return columns.areKnown ? undefined : columns.read((text) => query(session, connection, text, []))
}

/** Runs a statement with the caller's, the clock's and the given values in its slots. */
export function run(
  session: Session,
  statement: Statement,
  given: Readonly<Record<string, unknown>> = {},
  now?: Date,
): Outcome | Promise<Outcome> {
  const { connection, caller, clock } = session
  return query(session, connection, statement.text, statement.bind({ caller, given, clock: now ? () => now : clock }))
}

/** Runs a statement as it is; what the driver throws becomes an error that may be told to anybody. */
export function query(
  { dialect }: Pick<Session, 'dialect'>,
  connection: Connection,
  text: string,
  values: unknown[],
): Outcome | Promise<Outcome> {
  const fail = (error: unknown): never => {
    throw tellable(dialect, error)
  }
  try {
    const outcome = connection.query(text, values)
    return outcome instanceof Promise ? outcome.catch(fail) : outcome
  } catch (error) {
    return fail(error)
  }
}

/** Runs work in a transaction, all or nothing; inside another transaction, in a part of it. */
export async function atomically<T>(session: Session, work: (inside: Session) => Promise<T>): Promise<T> {
  const { store, dialect } = session
  const inside = (level: Level) => work({ ...session, connection: level, level })
  if (session.level) return session.level.part(inside)
  // What the work itself throws is the application's own.
  const own: { error?: unknown } = {}
  try {
    return await store.transaction((connection) =>
      Level.whole(connection, dialect, (level) =>
        inside(level).catch((error: unknown) => {
          own.error = error
          throw error
        }),
      ),
    )
  } catch (error) {
    throw error === own.error ? error : tellable(dialect, error)
  }
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
  return isThenable(answer) ? Promise.resolve(answer).then(work) : work(answer)
}

/** Whether something has to be waited for, whoever made it. */
const isThenable = <A>(answer: A | Promise<A>): answer is Promise<A> =>
  typeof (answer as { then?: unknown } | null | undefined)?.then === 'function'

/** What a validator finds wrong with values, by field; what it says of no field stands under `values`. */
export function problemsFound(
  { validators }: Session,
  table: string,
  action: string,
  values: unknown,
): ReadonlyMap<string, string> | Promise<ReadonlyMap<string, string>> {
  const own = Object.hasOwn(validators, table) ? validators[table] : undefined
  const validator = action === 'create' ? own?.create : action === 'update' ? own?.update : undefined
  if (!validator) return NO_PROBLEMS
  return withAnswer(validator['~standard'].validate(values), ({ issues = [] }) => {
    const problems = new Map<string, string>()
    for (const { path: [first = 'values'] = [], message } of issues) {
      problems.set(String(typeof first === 'object' ? first.key : first), message)
    }
    return problems
  })
}

const NO_PROBLEMS: ReadonlyMap<string, string> = new Map()
