import type { Operand, Some } from '../../condition/index.js'
import { type FieldData, fieldOf, type FieldType, tableOf } from '../../model/index.js'
import { NotInWhereError } from './errors.js'
import type { FieldReference, Names } from './naming.js'
import { encoderOf, type Provider } from './values.js'

/** A condition in the words of Prisma. */
export type Where = Readonly<Record<string, unknown>>

/** What is known without asking has no words there: an empty `OR` means all in one place and nothing in another. */
export type Said = Where | boolean

/** What is known of the database that Prisma speaks to. */
export interface Database {
  readonly provider: Provider
  /** Whether the database itself takes different texts of a field for different. */
  isExact(table: string, field: string): boolean
}

/** A field that a condition looks at, by its names. */
export interface Field {
  readonly name: string
  readonly data: FieldData
  readonly reference: FieldReference
  encode(value: unknown): unknown
}

/** What a collation has a say in. */
const TEXTUAL: ReadonlySet<FieldType> = new Set<FieldType>(['text', 'choice', 'uuid'])

/** Where a condition is asked: of the records of a table, so many steps away from the first. */
export class Place {
  constructor(
    readonly names: Names,
    readonly database: Database,
    readonly table: string,
    readonly level = 0,
  ) {}

  refuse(what: string): never {
    throw new NotInWhereError(this.table, what)
  }

  /** In words, as a part of an `AND`: nothing is what has none of no keys. */
  worded(said: Said): Where {
    if (typeof said !== 'boolean') return said
    if (said) return {}
    const [key] = tableOf(this.names.model, this.table).key
    return { [this.names.fieldOf(this.table, key).name]: { in: [] } }
  }

  /** The records that a step leads to. Prisma takes it by what the database takes for equal. */
  after({ table, from, to, chain }: Some): Place {
    if (chain !== undefined) return this.refuse('a chain of records is followed')
    if (from.kind !== 'field' || from.level !== this.level)
      return this.refuse('a step begins at another record, or at the caller')
    const there = new Place(this.names, this.database, table, to.level)
    this.#assertExact(from.name)
    there.#assertExact(to.field)
    return there
  }

  /** A field that is compared. */
  compared(operand: Operand): Field {
    const { name, data, reference, field } = this.#field(operand)
    const type: FieldType = data.type === 'list' ? (data.item ?? 'text') : data.type
    const encode = encoderOf(this.database.provider, type, reference)
    // The client does not say of a field that it is a list; SQLite has none.
    if (!encode || (data.type === 'list' && this.database.provider === 'sqlite'))
      return this.refuse(
        `${field} is ${data.type} in the model, and ${reference.typeName} of Prisma's, which compares otherwise`,
      )
    this.#assertExact(field)
    return { name, data, reference, encode }
  }

  /** That a field is not set. */
  missing(operand: Operand): Said {
    const { name, data, reference, field } = this.#field(operand)
    if (!data.optional) return false
    if (reference.typeName === 'Json') return this.refuse(`${field} is a document that may be missing`)
    return { [name]: data.type === 'list' ? { equals: null } : null }
  }

  #assertExact(field: string): void {
    const { type, item = 'text' } = fieldOf(this.names.model, this.table, field)
    if (!TEXTUAL.has(type === 'list' ? item : type) || this.database.isExact(this.table, field)) return
    this.refuse(`${field} is compared, and the database takes different texts there for equal`)
  }

  #field(operand: Operand) {
    if (operand.kind !== 'field') return this.refuse('it hangs on a change')
    if (operand.level !== this.level) return this.refuse('fields of two records are compared')
    const data = fieldOf(this.names.model, this.table, operand.name)
    return { ...this.names.fieldOf(this.table, operand.name), data, field: operand.name }
  }
}
