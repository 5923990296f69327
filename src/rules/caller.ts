import { RuleError } from '../condition/index.js'
import {
  accepts,
  assertKnown,
  brandOf,
  describeType,
  type Field,
  type FieldData,
  isBranded,
  isMissing,
  ownValue,
  PachterError,
  show,
  UnknownNameError,
  type Value,
} from '../model/index.js'

/** What callers look like, as plain data. */
export interface CallerShape {
  /** Their typed attributes; `id` is one. */
  readonly attributes: Readonly<Record<string, FieldData>>
  /** Every role there is. */
  readonly roles: readonly string[]
  /** For a role, the roles that whoever has it has as well. */
  readonly implies: Readonly<Record<string, readonly string[]>>
  /** Named sets of roles: whoever has one of them has that standing. */
  readonly standings: Readonly<Record<string, readonly string[]>>
  /** The ways a request can come in. */
  readonly channels: readonly string[]
  /** The table with a record for each caller, found by the caller's id, and its field that lists the caller's roles. */
  readonly record?: { readonly table: string; readonly roles: string }
}

declare const ATTRIBUTES: unique symbol

type Attributes = Readonly<Record<string, Field>> & { readonly id: Field }

/** A caller shape that also remembers, for the compiler, its attributes' types and its roles. */
export interface CallerDefinition<
  A extends Attributes = Attributes,
  R extends string = string,
  B extends string = string,
  H extends string = string,
> extends CallerShape {
  readonly [ATTRIBUTES]?: A
  readonly roles: readonly R[]
  readonly standings: Readonly<Record<B, readonly R[]>>
  readonly channels: readonly H[]
}

type ValueIn<F> = F extends Field<infer V> ? V : never
type OptionalNames<A> = { [K in keyof A]: A[K] extends Field<unknown, true> ? K : never }[keyof A]

/** The names and types of a caller's attributes. */
export type AttributesOf<C> = C extends CallerDefinition<infer A> ? { [K in keyof A & string]: ValueIn<A[K]> } : never

/** The roles a caller can have. */
export type RoleOf<C> = C extends CallerDefinition<Attributes, infer R> ? R : never

/** The standings that are named sets of roles. */
export type StandingOf<C> = C extends CallerDefinition<Attributes, string, infer B> ? B : never

/** The channels a request can come in by. */
export type ChannelOf<C> = C extends CallerDefinition<Attributes, string, string, infer H> ? H : never

/** A caller as an app hands it over. */
export type CallerOf<C> =
  | (Anonymous & { readonly channel?: ChannelOf<C> })
  | Trusted
  | (C extends CallerDefinition<infer A, infer R>
      ? { readonly [K in Exclude<keyof A, OptionalNames<A>>]: ValueIn<A[K]> } & {
          readonly [K in OptionalNames<A>]?: ValueIn<A[K]> | null
        } & { readonly roles?: readonly R[]; readonly channel?: ChannelOf<C> }
      : never)

const ANONYMOUS = brandOf('anonymous')
const TRUSTED = brandOf('trusted')

/** Nobody: a caller who has not signed in. Only {@link anonymous} is one, not data that looks like it. */
export type Anonymous = { readonly anonymous: true }

/**
 * The caller who has not signed in: no id, no roles, no attributes.
 *
 * @example guard.as({ ...anonymous, channel: 'web' })
 */
export const anonymous: Anonymous = Object.freeze({ anonymous: true, [ANONYMOUS]: true })

/** Code that is not held to the rules, for a reason it states. Only {@link trusted} makes one. */
export interface Trusted {
  readonly trusted: string
}

/**
 * A caller that the rules do not bind, such as a nightly import. Every use is reported to the guard's `onDecision`.
 *
 * @param reason why, in words for whoever reads the log; not empty
 * @throws {CallerError} where the reason is empty
 * @example await guard.as(trusted('yearly rent run')).create('rents', rent)
 */
export function trusted(reason: string): Trusted {
  if (typeof reason !== 'string' || reason.trim() === '') throw new CallerError('Trusted code has to state a reason.')
  return Object.freeze({ trusted: reason, [TRUSTED]: true })
}

/**
 * Says what callers look like.
 *
 * @param attributes typed attributes; `id` is required, `roles`, `channel`, `anonymous` and `trusted` are taken
 * @param options.roles every role there is; rules and callers can name no others
 * @param options.implies for a role, the roles that go with it
 * @param options.standings named sets of roles, for `standing('…')`
 * @param options.channels the ways a request can come in, for `channel('…')`
 * @param options.record the table with a record for each caller and the field in it that lists roles: these are
 *   looked up in the same query, so that a role given or taken counts at once, besides those the caller comes with
 * @throws {RuleError} where `id` is missing or optional, a name is taken, or a role named is none of `roles`
 * @example
 * defineCaller(
 *   { id: integer(), email: text().optional() },
 *   { roles: ['secretary', 'warden'], implies: { secretary: ['warden'] }, channels: ['web', 'script'] },
 * )
 */
export function defineCaller<
  const A extends Attributes,
  const R extends string = never,
  const B extends string = never,
  const H extends string = never,
>(
  attributes: A,
  options: {
    readonly roles?: readonly R[]
    readonly implies?: Readonly<Partial<Record<NoInfer<R>, readonly NoInfer<R>[]>>>
    readonly standings?: Readonly<Record<B, readonly NoInfer<R>[]>>
    readonly channels?: readonly H[]
    readonly record?: { readonly table: string; readonly roles: string }
  } = {},
): CallerDefinition<A, R, B, H> {
  assertKnown('option', options, ['roles', 'implies', 'standings', 'channels', 'record'], 'defineCaller')
  const { roles = [], implies = {}, standings = {}, channels = [], record } = options
  const shape: CallerShape = {
    attributes: Object.fromEntries(Object.entries<Field | undefined>(attributes).map(attributeData)),
    roles,
    implies: implies as CallerShape['implies'],
    standings: standings as CallerShape['standings'],
    channels,
    ...(record && { record }),
  }
  checkCallerShape(shape)
  return shape as unknown as CallerDefinition<A, R, B, H>
}

function attributeData([name, field]: readonly [string, Field | undefined]): readonly [string, FieldData] {
  if (field?.data) return [name, field.data]
  throw new RuleError(`The caller attribute ${name} is ${show(field)}, and no field; write one, such as text().`)
}

const TAKEN = ['roles', 'channel', 'anonymous', 'trusted']

/** Checks a caller shape that is plain data already. */
export function checkCallerShape({ attributes, roles, implies, standings }: CallerShape): void {
  if (!Object.hasOwn(attributes, 'id') || attributes['id']?.optional) {
    throw new RuleError('A caller needs an id that is never missing; without one, the caller is anonymous.')
  }
  for (const [name, { references, stored }] of Object.entries(attributes)) {
    if (TAKEN.includes(name)) {
      throw new RuleError(`A caller attribute cannot be called ${name}; that name has a meaning of its own.`)
    }
    if (stored !== undefined) throw new RuleError(`The caller attribute ${name} is not stored; leave out storedAs.`)
    if (references !== undefined) {
      throw new RuleError(`The caller attribute ${name} cannot be a reference; give it the type of the key.`)
    }
  }
  const named = [...Object.keys(implies), ...Object.values(implies).flat(), ...Object.values(standings).flat()]
  for (const role of named) if (!roles.includes(role)) throw new UnknownNameError('role', role, roles)
}

/** The roles that whoever has one of these needs not have, since any other that implies one will do. */
export function rolesThatServe({ implies }: CallerShape, anyOf: readonly string[]): readonly string[] {
  const serving = new Set(anyOf)
  // A role found is looked at in turn: what implies it serves as well.
  for (const role of serving) {
    for (const [higher, lower] of Object.entries(implies)) if (lower.includes(role)) serving.add(higher)
  }
  return [...serving]
}

/** A caller who was checked: what every layer below works with. */
export interface Caller {
  readonly signedIn: boolean
  readonly roles: readonly string[]
  readonly attributes: Readonly<Record<string, Value>>
  /** How the request came in. */
  readonly channel?: string
  /** Why the rules do not bind this caller, where they do not. */
  readonly trusted?: string
}

/** The caller handed over is not one the rules know: an attribute is missing or wrong. Nothing was run. */
export class CallerError extends PachterError {
  readonly code = 'caller-invalid'
}

/**
 * Checks a caller against the shape.
 *
 * @throws {CallerError} where an attribute is missing or of the wrong type
 * @throws {UnknownNameError} where an attribute, a role or a channel is not part of the shape
 */
export function checkCaller(shape: CallerShape, given: unknown): Caller {
  if (typeof given !== 'object' || given === null) {
    throw new CallerError('A caller is an object with an id, or `anonymous`.')
  }
  const attributes = given as Readonly<Record<string, unknown>>
  const { roles, channel } = attributes
  const names = Object.keys(attributes)
  const own = names.length - (names.includes('roles') ? 1 : 0) - (names.includes('channel') ? 1 : 0)
  if (own === 1 && roles === undefined) {
    if (isBranded(given, ANONYMOUS)) return { ...NOBODY, ...checkChannel(shape, channel) }
    if (isBranded(given, TRUSTED) && channel === undefined) {
      return { ...NOBODY, signedIn: true, trusted: (given as Trusted).trusted }
    }
  }
  for (const name of names) {
    if (name === 'roles' || name === 'channel' || Object.hasOwn(shape.attributes, name)) continue
    const hint = ['anonymous', 'trusted'].includes(name) ? ' Use what `pachter` exports under that name, not data.' : ''
    if (hint) throw new CallerError(`Data cannot say of itself that it is ${name}.${hint}`)
    throw new UnknownNameError('caller attribute', name, [...Object.keys(shape.attributes), 'roles', 'channel'])
  }
  const present: Record<string, Value> = {}
  for (const name of Object.keys(shape.attributes)) {
    const field = shape.attributes[name] as FieldData
    const value = Object.hasOwn(attributes, name) ? attributes[name] : undefined
    if (isMissing(value)) {
      if (field.optional) continue
      throw new CallerError(`The caller has no ${name}, which must be ${describeType(field)}; nobody is \`anonymous\`.`)
    }
    if (!accepts(field, value)) {
      throw new CallerError(`The caller's ${name} is ${show(value)}; it must be ${describeType(field)}.`)
    }
    present[name] = ownValue(field, value)
  }
  const caller = { signedIn: true, roles: checkRoles(shape, roles), attributes: present }
  return isMissing(channel) ? caller : { ...caller, ...checkChannel(shape, channel) }
}

const NO_ROLES: readonly string[] = Object.freeze([])

const NOBODY: Caller = Object.freeze({ signedIn: false, roles: NO_ROLES, attributes: Object.freeze({}) })

function checkChannel({ channels }: CallerShape, channel: unknown): { readonly channel?: string } {
  if (isMissing(channel)) return {}
  if (typeof channel === 'string' && channels.includes(channel)) return { channel }
  throw new UnknownNameError('channel', channel, channels)
}

function checkRoles(shape: CallerShape, roles: unknown): readonly string[] {
  if (isMissing(roles)) return NO_ROLES
  if (!Array.isArray(roles)) throw new CallerError("The caller's roles must be a list of role names.")
  const own: readonly unknown[] = Array.from(roles)
  for (const role of own) {
    if (!shape.roles.includes(role as string)) throw new UnknownNameError('role', role, shape.roles)
  }
  // A list of its own, in one order and each role once: what is worked out for callers hangs on it.
  return Object.freeze([...new Set(own as readonly string[])].sort())
}

/** The shape of callers who have an id and nothing else. */
export const PLAIN_SHAPE = 'id'

/**
 * What anything worked out for a caller depends on, as text: callers of one shape differ in values only, which are bound
 * with each request.
 */
export function shapeOfCaller({ signedIn, roles, attributes, channel, trusted }: Caller): string {
  if (trusted !== undefined) return 'trusted'
  const names = Object.keys(attributes)
  // Most callers have nothing but the attribute that all have.
  if (names.length === 1 && roles.length === 0 && channel === undefined) return PLAIN_SHAPE
  // As JSON: whatever stands in a role's name, no two shapes are ever one.
  return JSON.stringify([signedIn, names, roles, channel])
}
