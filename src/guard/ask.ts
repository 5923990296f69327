import {
  assertCondition,
  type Condition,
  type Operand,
  rewrite,
  rowOf,
  RuleError,
  withoutLoose,
} from '../condition/index.js'
import {
  accepts,
  assertKnown,
  assertWithin,
  childOf,
  childrenOf,
  describeType,
  fieldOf,
  fromPlain,
  InputError,
  isMissing,
  isNever,
  LIMITS,
  type Model,
  type ModelData,
  ownValue,
  parentsOf,
  type Relation,
  show,
  tableOf,
  UnknownNameError,
} from '../model/index.js'
import { assertSize } from '../rules/index.js'
import { afterSlot, type Form, FORMS, LIMIT, OFFSET } from './backend.js'

/** What a read is asked, checked; plain data, so that its text can name the plan made for it. */
export interface Asked {
  readonly table: string
  readonly fields?: readonly string[]
  readonly access: boolean
  /** The condition, its values replaced by names of given ones. */
  readonly where?: Condition
  readonly order: readonly { readonly field: string; readonly descending: boolean }[]
  /** Whether a given value says how many at most, and how many are left out. */
  readonly limited?: true
  readonly skipping?: true
  /** How many related records at most: as digits, since not every database takes a value there. */
  readonly most?: number
  /** Only what comes after a record in which these fields are missing. */
  readonly after?: readonly string[]
  readonly related: readonly { readonly relation: Relation; readonly asked: Asked }[]
}

/** The options of all reads, as they may come in. */
export interface GivenOptions {
  readonly fields?: readonly string[]
  readonly access?: boolean
  readonly with?: Readonly<Record<string, true | (GivenOptions & { readonly by?: string })>>
  readonly where?: (row: never) => Condition
  readonly orderBy?: string | readonly string[]
  readonly limit?: number
  readonly offset?: number
  readonly after?: Readonly<Record<string, unknown>>
  readonly form?: Form
}

/** The names of the options, for each kind of read. */
export const OPTIONS = {
  get: ['fields', 'access', 'with'],
  count: ['where', 'form'],
  list: ['fields', 'access', 'with', 'where', 'form', 'orderBy', 'limit', 'offset', 'after'],
  stream: ['fields', 'access', 'with', 'where', 'form', 'orderBy'],
  related: ['fields', 'access', 'with', 'where', 'orderBy', 'limit', 'by'],
} as const

/** What was asked, and its values, by the names that plans know them by. */
export interface AskedFor {
  readonly asked: Asked
  readonly given: Readonly<Record<string, unknown>>
}

/** The values of one request while they are gathered. */
type Given = Record<string, unknown>

/**
 * Checks what a read is asked. Options may come from a request as they are: whatever stands in them is checked.
 *
 * @param hides whether a field is hidden from the caller in some records
 * @throws {UnknownNameError} where an option, a field or a relation is unknown
 * @throws {InputError} where an option has a value it cannot have
 * @throws {LimitError} where more is asked for than is allowed
 */
export function ask(
  model: ModelData,
  table: string,
  kind: keyof typeof OPTIONS,
  options: GivenOptions,
  hides: (field: string) => boolean,
): AskedFor {
  const given: Given = {}
  return { asked: askAt({ model, given, hides, relations: 0 }, table, kind, options, []), given }
}

/** What is known while a read's options are gone through. */
interface Asking {
  readonly model: ModelData
  readonly given: Given
  readonly hides: (field: string) => boolean
  relations: number
}

function askAt(
  asking: Asking,
  table: string,
  kind: keyof typeof OPTIONS,
  options: GivenOptions,
  path: readonly string[],
): Asked {
  const { model, given, hides } = asking
  const { key } = tableOf(model, table)
  const known: readonly string[] = OPTIONS[kind]
  assertObject(table, kind, options)
  assertKnown('option', options, known, kind)
  const { fields, access = false, where, limit, offset, after } = options
  if (typeof access !== 'boolean') throw new InputError(table, { access: 'must be true or false' })
  const order = orderOf(model, table, key, options.orderBy)
  return {
    table,
    access,
    order,
    ...(fields !== undefined && { fields: fieldsOf(model, table, fields) }),
    ...(where !== undefined && { where: whereOf(asking, table, where, path) }),
    ...(limit !== undefined && limitOf(table, kind, limit, given)),
    ...(offset !== undefined && skippingOf(table, offset, given)),
    ...(after !== undefined && { after: startAfter(model, table, order, after, given, hides) }),
    related: relatedOf(asking, table, options.with, path),
  }
}

/** @throws {InputError} where options are not an object */
export function assertObject(table: string, option: string, given: unknown): asserts given is object {
  if (typeof given === 'object' && given !== null && !Array.isArray(given)) return
  throw new InputError(table, { [option]: 'must be an object' })
}

/** Several names, in an array of its own. */
function namesOf(table: string, option: string, given: unknown): readonly string[] {
  const names: readonly unknown[] = Array.isArray(given) ? Array.from(given) : [given]
  for (const name of names) {
    if (typeof name !== 'string') throw new InputError(table, { [option]: 'must be names of fields' })
  }
  return names as readonly string[]
}

function fieldsOf(model: ModelData, table: string, given: unknown): readonly string[] {
  if (!Array.isArray(given)) throw new InputError(table, { fields: 'must be a list of names of fields' })
  assertWithin('fields', given.length, Object.keys(tableOf(model, table).fields).length)
  const names = namesOf(table, 'fields', given)
  for (const name of names) fieldOf(model, table, name)
  return names
}

function relatedOf(asking: Asking, table: string, given: unknown, path: readonly string[]): Asked['related'] {
  if (given === undefined) return []
  assertObject(table, 'with', given)
  assertWithin('levels of with', path.length + 1, LIMITS.withDepth)
  return Object.entries(given).map(([name, wanted]: [string, unknown]) => {
    assertWithin('relations in with', (asking.relations += 1), LIMITS.withRelations)
    const options = wanted === true ? {} : wanted
    assertObject(table, `with ${name}`, options)
    const { by, ...more } = options as GivenOptions & { readonly by?: string }
    if (by !== undefined && typeof by !== 'string') throw new InputError(table, { by: 'must be the name of a field' })
    const relation = relationOf(asking.model, table, name, by)
    return { relation, asked: askAt(asking, relation.table, 'related', more, [...path, name]) }
  })
}

/** The condition that was asked for, with names in place of its values, so that one plan serves for all values. */
function whereOf({ model, given }: Asking, table: string, where: unknown, path: readonly string[]): Condition {
  if (typeof where !== 'function') throw new InputError(table, { where: 'must be a function of the row' })
  const condition = asInput(table, () => {
    const row = rowOf(model as Model, table)
    const built = withoutLoose(() => assertCondition((where as (row: unknown) => unknown)(row)))
    assertSize(built)
    return built
  })
  let count = 0
  const named = (operand: Operand): Operand => {
    if (operand.kind !== 'value') return operand
    const name = [...path, `where ${(count += 1)}`].join(' ')
    given[name] = fromPlain(operand.shape, operand.value)
    return { kind: 'given', name, shape: operand.shape }
  }
  const within = (part: Condition): Condition => rewrite(part, { part: within, operand: named })
  return within(condition)
}

/** Runs what is wrong through the fault of whoever asked, where it is. */
export function asInput<T>(table: string, work: () => T): T {
  try {
    return work()
  } catch (error) {
    if (!(error instanceof RuleError || error instanceof UnknownNameError)) throw error
    throw new InputError(table, { where: `is refused: ${error.message.replace(/[.]$/, '')}` })
  }
}

/** @throws {UnknownNameError} where there is no such form */
export function assertForm(form: Form | undefined): void {
  if (form !== undefined && !FORMS.includes(form)) throw new UnknownNameError('form', form, FORMS)
}

function relationOf(model: ModelData, table: string, name: string, by: string | undefined): Relation {
  const parents = parentsOf(model, table)
  const parent = parents.find((relation) => relation.name === name)
  if (parent) return parent
  const children = childrenOf(model, table).map((relation) => relation.name)
  if (children.includes(name)) return childOf(model, table, name, by)
  throw new UnknownNameError('relation', name, [...parents.map((each) => each.name), ...children], table)
}

function orderOf(model: ModelData, table: string, key: readonly string[], orderBy: GivenOptions['orderBy'] = []) {
  const wanted = namesOf(table, 'orderBy', orderBy)
  assertWithin('fields to sort by', wanted.length, LIMITS.orderFields)
  const order = wanted.map((each) => {
    const [field = '', direction, ...rest] = each.split(' ')
    const shape = fieldOf(model, table, field)
    if ((direction !== undefined && direction !== 'descending') || rest.length > 0) {
      throw new InputError(table, {
        orderBy: `is ${show(each)}; it must be a field, or '${field} descending'`,
      })
    }
    if (isNever(shape, 'sorted')) {
      throw new InputError(table, { orderBy: `is ${field}; values of type ${shape.type} have no order` })
    }
    return { field, descending: direction === 'descending' }
  })
  const named = order.map(({ field }) => field)
  return [...order, ...key.filter((name) => !named.includes(name)).map((field) => ({ field, descending: false }))]
}

function limitOf(table: string, kind: string, limit: unknown, given: Given): Pick<Asked, 'limited' | 'most'> {
  const most = amount(table, 'limit', limit)
  if (kind === 'related') return { most }
  given[LIMIT] = most
  return { limited: true }
}

function skippingOf(table: string, offset: unknown, given: Given): Pick<Asked, 'skipping'> {
  given[OFFSET] = amount(table, 'offset', offset)
  return { skipping: true }
}

function amount(table: string, name: string, value: unknown): number {
  if (Number.isSafeInteger(value) && Number(value) >= 0) return value as number
  throw new InputError(table, { [name]: 'must be a whole number, 0 or more' })
}

function startAfter(
  model: ModelData,
  table: string,
  order: Asked['order'],
  after: unknown,
  given: Given,
  hides: (field: string) => boolean,
): readonly string[] {
  assertObject(table, 'after', after)
  const missing: string[] = []
  for (const { field } of order) {
    const shape = fieldOf(model, table, field)
    const value: unknown = Object.hasOwn(after, field) ? (after as Given)[field] : undefined
    if (isMissing(value)) {
      // A hidden field counts as missing; one that was left out would silently start another page.
      if (value === null ? !shape.optional && !hides(field) : !hides(field)) {
        throw new InputError(table, { after: `has no ${field}, which the records are sorted by` })
      }
      missing.push(field)
    } else if (accepts(shape, value)) given[afterSlot(field)] = ownValue(shape, value)
    else throw new InputError(table, { after: `has a ${field} that is not ${describeType(shape)}` })
  }
  return missing
}
