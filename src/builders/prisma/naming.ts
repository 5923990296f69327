import { childrenOf, type ModelData, type TableName, UnknownNameError } from '../../model/index.js'
import type { Some } from '../../condition/index.js'
import { NotInWhereError } from './errors.js'

/** What Prisma calls things, where that is not what the model calls them. */
export interface PrismaNaming<C, M> {
  /** By table, the client's property for its records: `{ entries: 'entry' }`. */
  readonly models?: { readonly [T in TableName<M>]?: keyof C & string }
  /**
   * By table, fields and relations: `{ entries: { entryShares: 'shares' } }`. Of several references from one table the field
   * stands behind: `{ members: { 'entries.authorId': 'written' } }`.
   */
  readonly fields?: { readonly [T in TableName<M>]?: Readonly<Record<string, string>> }
}

/** The same, whatever the model. */
interface Naming {
  readonly models?: Readonly<Record<string, string | undefined>>
  readonly fields?: Readonly<Record<string, Readonly<Record<string, string>> | undefined>>
}

/** A field as the client knows it. */
export interface FieldReference {
  readonly typeName: string
  readonly isEnum?: boolean
}

/** The model's names in the words of a Prisma client. */
export class Names {
  constructor(
    readonly model: ModelData,
    private readonly prisma: object,
    private readonly naming: Naming,
  ) {}

  /** What the client knows a field by. */
  fieldOf(table: string, field: string): { readonly name: string; readonly reference: FieldReference } {
    const name = this.#said(table, field) ?? field
    const known = this.#fieldsOf(table)
    const reference = Object.hasOwn(known, name) ? known[name] : undefined
    if (!reference) throw new UnknownNameError('field of the Prisma client', name, Object.keys(known), table)
    return { name, reference }
  }

  /** What the client calls a step from a record to others; that it leads there, the schema has to see to. */
  stepOf(table: string, { relation, to, one, table: target }: Some): string {
    const exact = one ? undefined : this.#said(table, `${relation}.${to.field}`)
    const several = childrenOf(this.model, table).filter((each) => each.table === target && each.name === relation)
    if (!one && exact === undefined && several.length > 1)
      throw new NotInWhereError(
        table,
        `${relation} can be by several fields; say fields: { ${table}: { '${relation}.${to.field}': … } }`,
      )
    return exact ?? this.#said(table, relation) ?? relation
  }

  #said(table: string, name: string): string | undefined {
    const said = this.naming.fields?.[table]
    return said && Object.hasOwn(said, name) ? said[name] : undefined
  }

  #fieldsOf(table: string): Readonly<Record<string, FieldReference>> {
    const name = this.naming.models?.[table] ?? table
    const found = (this.prisma as Readonly<Record<string, { readonly fields?: never }>>)[name]?.fields
    if (!found) throw new UnknownNameError('model of the Prisma client', name, [])
    return found
  }
}
