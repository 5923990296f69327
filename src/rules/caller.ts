import { RuleError } from '../condition/index.js'
import {
  accepts,
  describeType,
  type Field,
  type FieldData,
  isMissing,
  PachterError,
  UnknownNameError,
  type Value,
} from '../model/index.js'

/** What callers look like, as plain data: their typed attributes, and the roles there are. */
export interface CallerShape {
  readonly attributes: Readonly<Record<string, FieldData>>
  readonly roles: readonly string[]
}

declare const ATTRIBUTES: unique symbol

type Attributes = Readonly<Record<string, Field>> & { readonly id: Field }

/** A caller shape that also remembers, for the compiler, its attributes' types and its roles. */
export interface CallerDefinition<A extends Attributes = Attributes, R extends string = string> extends CallerShape {
  readonly [ATTRIBUTES]?: A
  readonly roles: readonly R[]
}

type ValueIn<F> = F extends Field<infer V> ? V : never
type OptionalNames<A> = { [K in keyof A]: A[K] extends Field<unknown, true> ? K : never }[keyof A]

/** The names and types of a caller's attributes. */
export type AttributesOf<C> = C extends CallerDefinition<infer A> ? { [K in keyof A & string]: ValueIn<A[K]> } : never

/** The roles a caller can have. */
export type RoleOf<C> = C extends CallerDefinition<Attributes, infer R> ? R : never

/** A caller as an app hands it over. */
export type CallerOf<C> =
  | Anonymous
  | (C extends CallerDefinition<infer A, infer R>
      ? { readonly [K in Exclude<keyof A, OptionalNames<A>>]: ValueIn<A[K]> } & {
          readonly [K in OptionalNames<A>]?: ValueIn<A[K]> | null
        } & { readonly roles?: readonly R[] }
      : never)

/** Nobody: a caller who has not signed in. */
export type Anonymous = { readonly anonymous: true }

/** The caller who has not signed in: no id, no roles, no attributes. */
export const anonymous: Anonymous = Object.freeze({ anonymous: true })

/**
 * Says what callers look like.
 *
 * @param attributes typed attributes; `id` is required, `roles` and `anonymous` are taken
 * @param options.roles every role there is; rules and callers can name no others
 * @throws {RuleError} where `id` is missing or optional, or a name is taken
 * @example defineCaller({ id: integer(), email: text().optional() }, { roles: ['treasurer', 'secretary'] })
 */
export function defineCaller<const A extends Attributes, const R extends string = never>(
  attributes: A,
  options: { readonly roles?: readonly R[] } = {},
): CallerDefinition<A, R> {
  const shape = {
    attributes: Object.fromEntries(Object.entries(attributes).map(([name, { data }]) => [name, data])),
    roles: options.roles ?? [],
  }
  checkCallerShape(shape)
  return shape as unknown as CallerDefinition<A, R>
}

/** Checks a caller shape that is plain data already. */
export function checkCallerShape({ attributes }: CallerShape): void {
  if (!Object.hasOwn(attributes, 'id') || attributes['id']?.optional) {
    throw new RuleError('A caller needs an id that is never missing; without one, the caller is anonymous.')
  }
  for (const [name, { references }] of Object.entries(attributes)) {
    if (name === 'roles' || name === 'anonymous') {
      throw new RuleError(`A caller attribute cannot be called ${name}; that name has a meaning of its own.`)
    }
    if (references !== undefined) {
      throw new RuleError(`The caller attribute ${name} cannot be a reference; give it the type of the key.`)
    }
  }
}

/** A caller who was checked: what every layer below works with. */
export interface Caller {
  readonly signedIn: boolean
  readonly roles: readonly string[]
  readonly attributes: Readonly<Record<string, Value>>
}

/** The caller handed over is not one the rules know: an attribute is missing or wrong. Nothing was run. */
export class CallerError extends PachterError {
  readonly code = 'caller-invalid'
}

const NOBODY: Caller = Object.freeze({ signedIn: false, roles: [], attributes: {} })

/**
 * Checks a caller against the shape.
 *
 * @throws {CallerError} where an attribute is missing or of the wrong type
 * @throws {UnknownNameError} where an attribute or role is not part of the shape
 */
export function checkCaller(shape: CallerShape, given: unknown): Caller {
  if (typeof given !== 'object' || given === null) {
    throw new CallerError('A caller is an object with an id, or `anonymous`.')
  }
  const { anonymous: nobody, roles, ...attributes } = given as Record<string, unknown>
  if (nobody === true && roles === undefined && Object.keys(attributes).length === 0) return NOBODY
  for (const name of nobody === undefined ? Object.keys(attributes) : ['anonymous']) {
    if (!Object.hasOwn(shape.attributes, name)) {
      throw new UnknownNameError('caller attribute', name, [...Object.keys(shape.attributes), 'roles'])
    }
  }
  const present: Record<string, Value> = {}
  for (const [name, field] of Object.entries(shape.attributes)) {
    const value = Object.hasOwn(attributes, name) ? attributes[name] : undefined
    if (isMissing(value)) {
      if (field.optional) continue
      throw new CallerError(`The caller has no ${name}, which must be ${describeType(field)}; nobody is \`anonymous\`.`)
    }
    if (!accepts(field, value)) {
      throw new CallerError(`The caller's ${name} is ${JSON.stringify(value)}; it must be ${describeType(field)}.`)
    }
    present[name] = value
  }
  return { signedIn: true, roles: checkRoles(shape, roles), attributes: present }
}

function checkRoles(shape: CallerShape, roles: unknown): readonly string[] {
  if (isMissing(roles)) return []
  if (!Array.isArray(roles)) throw new CallerError("The caller's roles must be a list of role names.")
  for (const role of roles) {
    if (!shape.roles.includes(role as string)) throw new UnknownNameError('role', String(role), shape.roles)
  }
  return roles as string[]
}
