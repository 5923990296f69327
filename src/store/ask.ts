import { type Condition, mapOperands, rowOf } from '../condition/index.js'
import {
  accepts,
  childOf,
  childrenOf,
  describeType,
  fieldOf,
  fromPlain,
  InputError,
  isMissing,
  type Model,
  type ModelData,
  parentsOf,
  type Relation,
  tableOf,
  UnknownNameError,
} from '../model/index.js'
import { afterSlot, type Form, FORMS } from '../sql/index.js'

/** What a read is asked, checked; plain data, so that its text can name the plan made for it. */
export interface Asked {
  readonly table: string
  readonly fields?: readonly string[]
  readonly access: boolean
  /** The condition, its values replaced by names of given ones. */
  readonly where?: Condition
  readonly order: readonly { readonly field: string; readonly descending: boolean }[]
  /** The name of the given value that says how many at most. */
  readonly limit?: string
  readonly offset?: string
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

/** The values of one request, by the names that plans know them by. */
export type Given = Record<string, unknown>

/**
 * Checks what a read is asked.
 *
 * @param given takes up the values, by name
 * @param hides whether a field is hidden from the caller in some records
 * @throws {UnknownNameError} where an option, a field or a relation is unknown
 * @throws {InputError} where an option has a value it cannot have
 */
export function ask(
  model: ModelData,
  table: string,
  kind: keyof typeof OPTIONS,
  options: GivenOptions,
  given: Given,
  hides: (field: string) => boolean,
  path = '',
): Asked {
  const { key } = tableOf(model, table)
  const known: readonly string[] = OPTIONS[kind]
  for (const name in options) if (!known.includes(name)) throw new UnknownNameError('option', name, known, kind)
  const { fields, access = false, where, limit, offset, after } = options
  fields?.forEach((name) => fieldOf(model, table, name))
  assertForm(options.form)
  const order = orderOf(model, table, key, options.orderBy)
  return {
    table,
    access,
    order,
    ...(fields && { fields }),
    ...(where && { where: parameterised(where(rowOf(model as Model, table) as never), given, path) }),
    ...(limit !== undefined && limitOf(table, kind, limit, given)),
    ...(offset !== undefined && { offset: amount(table, 'offset', offset, given) }),
    ...(after && { after: startAfter(model, table, order, after, given, hides) }),
    related: Object.entries(options.with ?? {}).map(([name, wanted]) => {
      const { by, ...more }: GivenOptions & { readonly by?: string } = wanted === true ? {} : wanted
      const relation = relationOf(model, table, name, by)
      const asked = ask(model, relation.table, 'related', more, given, hides, `${path}${name} `)
      return { relation, asked }
    }),
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
  const order = (typeof orderBy === 'string' ? [orderBy] : orderBy).map((each) => {
    const [field = '', direction, ...rest] = each.split(' ')
    const { type } = fieldOf(model, table, field)
    if ((direction !== undefined && direction !== 'descending') || rest.length > 0) {
      throw new InputError(table, {
        orderBy: `is ${JSON.stringify(each)}; it must be a field, or '${field} descending'`,
      })
    }
    if (type === 'list') throw new InputError(table, { orderBy: `is ${field}, a list, which has no order` })
    return { field, descending: direction === 'descending' }
  })
  const named = order.map(({ field }) => field)
  return [...order, ...key.filter((name) => !named.includes(name)).map((field) => ({ field, descending: false }))]
}

function limitOf(table: string, kind: string, limit: number, given: Given): Pick<Asked, 'limit' | 'most'> {
  const name = amount(table, 'limit', limit, kind === 'related' ? {} : given)
  return kind === 'related' ? { most: limit } : { limit: name }
}

function amount(table: string, name: string, value: unknown, given: Given): string {
  if (!Number.isSafeInteger(value) || Number(value) < 0) {
    throw new InputError(table, { [name]: 'must be a whole number, 0 or more' })
  }
  given[`$${name}`] = value
  return `$${name}`
}

function startAfter(
  model: ModelData,
  table: string,
  order: Asked['order'],
  after: Readonly<Record<string, unknown>>,
  given: Given,
  hides: (field: string) => boolean,
): readonly string[] {
  const missing: string[] = []
  for (const { field } of order) {
    const shape = fieldOf(model, table, field)
    const value = after[field]
    if (isMissing(value)) {
      // A hidden field counts as missing; one that was left out would silently start another page.
      if (value === null ? !shape.optional && !hides(field) : !hides(field)) {
        throw new InputError(table, { after: `has no ${field}, which the records are sorted by` })
      }
      missing.push(field)
    } else if (accepts(shape, value)) given[afterSlot(field)] = value
    else throw new InputError(table, { after: `has a ${field} that is not ${describeType(shape)}` })
  }
  return missing
}

/** The same condition with names in place of its values, so that one plan serves for all values. */
function parameterised(condition: Condition, given: Given, path: string): Condition {
  let count = 0
  return mapOperands(condition, (operand) => {
    if (operand.kind !== 'value') return operand
    const name = `${path}where ${(count += 1)}`
    given[name] = fromPlain(operand.shape, operand.value)
    return { kind: 'given', name, shape: operand.shape }
  })
}
