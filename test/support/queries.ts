import fc from 'fast-check'
import { filter } from 'pachter/client'
import { childrenOf, type FieldData, type ModelData, parentsOf, tableOf } from 'pachter/model'
import { valuesFor } from './values.js'

/** What a client can ask of a list, or along a relation. */
export interface Query {
  readonly fields?: readonly string[]
  readonly filter?: string
  readonly orderBy?: readonly string[]
  readonly limit?: number
  readonly access?: boolean
  readonly by?: string
  readonly with?: Readonly<Record<string, Query>>
}

/** A value as a filter has it: texts in quotes, all else as it likes. */
export function literalOf(value: unknown): string {
  if (value instanceof Uint8Array) return `'${Buffer.from(value).toString('hex')}'`
  return value instanceof Date ? value.toISOString() : filter`${value as string}`
}

/** What a filter can ask of the records of a table: of their own fields, and of those they refer to, or that refer to them. */
export function drawnFilter(model: ModelData, table: string): fc.Arbitrary<string> {
  const asked = (of: string, path: string): readonly fc.Arbitrary<string>[] =>
    Object.entries(tableOf(model, of).fields).flatMap(([name, field]) => {
      const words = fc.constantFrom(`${path}${name} eq null`, `${path}${name} ne null`)
      if (field.type === 'list' || field.type === 'json') return [words]
      const compared = fc
        .tuple(fc.constantFrom('eq', 'ne'), fc.constantFrom<unknown>(...valuesFor(field as FieldData)))
        .map(([how, value]) => `${path}${name} ${how} ${literalOf(value)}`)
      return [words, compared, compared]
    })
  const parents = parentsOf(model, table).flatMap(({ name, table: to }) => asked(to, `${name}/`))
  const children = childrenOf(model, table)
  const many = children
    .filter(({ name }) => children.filter((other) => other.name === name).length === 1)
    .flatMap(({ name, table: to }) => [
      fc.constant(`${name}/any()`),
      ...asked(to, 'each/').map((part) => part.map((each) => `${name}/any(each: ${each})`)),
    ])
  return fc.oneof(...asked(table, ''), ...parents, ...many)
}

/**
 * What can be asked of a list, and along its relations, so many steps.
 *
 * @param isFiltered whether by filters as well
 */
export function drawnQuery(model: ModelData, table: string, depth: number, isFiltered = false): fc.Arbitrary<Query> {
  const { fields } = tableOf(model, table)
  const names = Object.keys(fields)
  const sortable = names.filter((name) => !['list', 'json', 'bytes'].includes(fields[name]?.type ?? ''))
  const children = childrenOf(model, table)
  const isOneOfSeveral = (name: string) => children.filter((each) => each.name === name).length > 1
  const related = [
    ...parentsOf(model, table).map((each) => ({ ...each, by: undefined })),
    ...children.map((each) => ({ ...each, by: isOneOfSeveral(each.name) ? each.to : undefined })),
  ]
  const step = ({ name, table: to, by, one }: (typeof related)[number]) =>
    drawnQuery(model, to, depth - 1).map(
      ({ orderBy, limit, ...query }) =>
        [name, { ...query, ...(by && { by }), ...(!one && { orderBy, limit }) }] as const,
    )
  const order = fc
    .tuple(fc.constantFrom(...sortable), fc.constantFrom('', ' descending'))
    .map((parts) => parts.join(''))
  const along = fc.array(fc.constantFrom(...related).chain(step), { minLength: 1, maxLength: 2 })
  return fc.record(
    {
      fields: fc.subarray(names, { minLength: 1 }),
      orderBy: fc.array(order, { minLength: 1, maxLength: 2 }),
      limit: fc.integer({ min: 1, max: 7 }),
      access: fc.boolean(),
      ...(isFiltered && { filter: drawnFilter(model, table) }),
      ...(depth > 0 && related.length > 0 && { with: along.map((all) => Object.fromEntries(all)) }),
    },
    { requiredKeys: ['limit'] },
  ) as fc.Arbitrary<Query>
}
