import { RuleError } from '../condition/index.js'
import { assertKnown, type ModelData, tableOf } from '../model/index.js'
import { withAnswer } from './answer.js'

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

/**
 * Checks that all validators are some, and are asked.
 *
 * @throws {UnknownNameError} where one is for a table or an action that nothing is validated for
 * @throws {RuleError} where one is none
 */
export function assertValidators(model: ModelData, validators: Validators): void {
  for (const [table, own = {}] of Object.entries(validators)) {
    tableOf(model, table)
    assertKnown('action that is validated', own, ['create', 'update'], table)
    for (const [action, given] of Object.entries<StandardValidator | undefined>(own)) {
      if (typeof given?.['~standard']?.validate === 'function') continue
      throw new RuleError(`The validator of ${table} for ${action} is none that speaks Standard Schema.`)
    }
  }
}

/** What a validator finds wrong with values, by field; what it says of no field stands under `values`. */
export function problemsFound(
  validators: Validators,
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
