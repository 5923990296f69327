import type { Caller, Rulebook } from '../rules/index.js'
import { bind, type Dialect, type Statement } from '../sql/index.js'
import type { Connection, Outcome } from './store.js'

/** One caller at work: the rules, the database, who it is and what time it is. */
export interface Session {
  readonly rulebook: Rulebook
  readonly dialect: Dialect
  readonly connection: Connection
  readonly caller: Caller
  readonly clock: () => Date
  readonly validators: Validators
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
  { connection, dialect, caller, clock }: Session,
  { text, slots }: Statement,
  given: Readonly<Record<string, unknown>> = {},
  now: Date = clock(),
): Promise<Outcome> {
  return connection.query(text, bind(dialect, slots, { caller, now, given }))
}

/** The values of a key under the names that `keyIs` gives its slots. */
export function keySlots(key: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(Object.entries(key).map(([name, value]) => [`key ${name}`, value]))
}

/** What a validator finds wrong with values, by field; what it says of no field stands under `values`. */
export async function problemsFound(
  { validators }: Session,
  table: string,
  action: 'create' | 'update',
  values: unknown,
): Promise<Record<string, string>> {
  const validator = Object.hasOwn(validators, table) ? validators[table]?.[action] : undefined
  const { issues = [] } = (await validator?.['~standard'].validate(values)) ?? {}
  return Object.fromEntries(
    issues.map(({ path: [first = 'values'] = [], message }) => [
      String(typeof first === 'object' ? first.key : first),
      message,
    ]),
  )
}
