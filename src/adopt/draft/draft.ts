import { conventional, type FieldData, isNever, type Naming, parentName } from '../../model/index.js'
import type { Catalogue } from '../catalogue/catalogue.js'
import { keep, type Kept, placeOf } from './kept.js'
import { codeName, free } from './names.js'
import { referencesIn } from './references.js'

/** A model as it is proposed for a database. */
export interface Draft {
  readonly naming: Naming
  readonly tables: readonly DraftTable[]
  /** What is left out, and why. */
  readonly left: readonly Left[]
}

/** A table of a draft. */
export interface DraftTable {
  readonly name: string
  readonly stored: { readonly schema?: string; readonly name: string }
  readonly fields: readonly DraftField[]
  /** What a person should know of it. */
  readonly remarks: readonly string[]
}

/** A field of a draft. */
export interface DraftField {
  readonly name: string
  readonly column: string
  readonly data: FieldData
  readonly remarks: readonly string[]
}

/** Something of the database that is not in the model. */
export interface Left {
  /** The table in the database's words, with its column where only that is left out. */
  readonly what: string
  readonly why: string
}

/** What a database has, as a model: every table and column that one can hold. */
export function draftOf({ tables }: Catalogue): Draft {
  const left: Left[] = []
  const kept: Kept[] = []
  const taken = new Set<string>()
  for (const table of tables) {
    const found = keep(table)
    if ('why' in found) left.push({ what: placeOf(table), why: found.why })
    else {
      const short = codeName(table.name, 'table')
      const name = free(
        taken.has(short) && table.schema !== undefined ? codeName(placeOf(table), 'table') : short,
        taken,
      )
      taken.add(name)
      kept.push({ ...found, name, table })
      for (const column of table.columns.filter(
        ({ name: each }) => !found.columns.some((held) => held.name === each),
      )) {
        const why = column.shape ? 'has a name that no statement here can write' : column.remark
        left.push({ what: `${placeOf(table)}.${column.name}`, why: why ?? 'is of a type that no field holds' })
      }
    }
  }
  const drafted = kept.map((each) => drafting(each, kept))
  const named = distinct(drafted)
  return { naming: namingOf(named), tables: named, left }
}

function drafting(kept: Kept, all: readonly Kept[]): DraftTable {
  const { name, table, key, columns } = kept
  const references = referencesIn(kept, all)
  const taken = new Set<string>()
  const fields = columns.map((column): DraftField => {
    const called = free(codeName(column.name, 'field'), taken)
    taken.add(called)
    const reference = references.get(column.name)
    const [isKey, isOnly] = [key.includes(column.name), key.length === 1]
    const isUnique = table.uniques.some((names) => names.length === 1 && names[0] === column.name)
    const { shape } = column
    // Whatever the database makes new uuids of, another is as good.
    const fills = isKey && isOnly && (column.isNumbered || (shape.type === 'uuid' && column.filled === 'default'))
    const filled = column.filled ?? (column.isNumbered ? 'default' : undefined)
    return {
      name: called,
      column: column.name,
      data: {
        ...shape,
        ...(isKey && { key: true }),
        ...(column.isOptional && !isKey && { optional: true }),
        ...(isUnique && !isKey && !isNever(shape, 'key') && { unique: true }),
        ...(fills && { generated: true }),
        ...(filled !== undefined && !isKey && { filled }),
        ...(reference?.table !== undefined && { references: reference.table }),
      },
      remarks: [...(column.remark === undefined ? [] : [column.remark]), ...(reference ? reference.remarks : [])],
    }
  })
  const { schema } = table
  return {
    name,
    stored: { ...(schema !== undefined && { schema }), name: table.name },
    fields,
    remarks: kept.remarks,
  }
}

/** Renames fields that conditions would take for the record that a reference leads to, or for the records that refer here. */
function distinct(tables: readonly DraftTable[]): readonly DraftTable[] {
  return tables.map((table) => {
    const referring = tables.filter(({ fields }) => fields.some(({ data }) => data.references === table.name))
    const steps = new Set(referring.map(({ name }) => name))
    for (const { name, data } of table.fields) if (data.references !== undefined) steps.add(parentName(name))
    const taken = new Set([...steps, ...table.fields.map(({ name }) => name)])
    const fields = table.fields.map((field) => {
      if (!steps.has(field.name)) return field
      const name = free(`${field.name}Value`, taken)
      taken.add(name)
      return { ...field, name, remarks: [...field.remarks, `row.${field.name} is what a reference leads to`] }
    })
    return { ...table, fields }
  })
}

/** The convention by which most names need no word of their own. */
function namingOf(tables: readonly DraftTable[]): Naming {
  const names = tables.flatMap(({ name, stored, fields }) => [
    [name, stored.name] as const,
    ...fields.map((field) => [field.name, field.column] as const),
  ])
  const fit = (naming: Naming) => names.filter(([name, stored]) => conventional(naming, name) === stored).length
  return fit('snakeCase') > fit('asWritten') ? 'snakeCase' : 'asWritten'
}
