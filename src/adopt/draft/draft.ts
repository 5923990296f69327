import { conventional, type FieldData, type Naming, parentName } from '../../model/index.js'
import type { Catalogue } from '../catalogue/catalogue.js'
import { keep, type Kept, placeOf } from './kept.js'
import { codeName, free } from './names.js'
import { referencesIn } from './references.js'
import { withUniques } from './uniques.js'

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
  const named = distinct(withoutCircles(drafted)).map((each, at): DraftTable => {
    const { fields, unsaid } = withUniques(each.fields, (kept[at] as Kept).table)
    return { ...each, fields, remarks: [...each.remarks, ...unsaid] }
  })
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

/** Lets no key refer to what it is itself referred to by: one of them has to say of what type it is. */
function withoutCircles(tables: readonly DraftTable[]): readonly DraftTable[] {
  const onlyKey = ({ fields }: DraftTable) => {
    const [key, ...more] = fields.filter(({ data }) => data.key)
    return more.length === 0 ? key : undefined
  }
  const leadsOn = new Map(tables.map((table) => [table.name, onlyKey(table)?.data.references]))
  const circles = (name: string): boolean => {
    const passed = new Set<string>()
    for (let at = leadsOn.get(name); at !== undefined && !passed.has(at); at = leadsOn.get(at)) {
      if (at === name) return true
      passed.add(at)
    }
    return false
  }
  return tables.map((table) => {
    if (!circles(table.name)) return table
    leadsOn.delete(table.name)
    const fields = table.fields.map((field) => {
      if (field !== onlyKey(table)) return field
      const { references, ...data } = field.data
      return { ...field, data, remarks: [...field.remarks, `refers to ${references}, whose key refers back to it`] }
    })
    return { ...table, fields }
  })
}

/**
 * Renames fields so that conditions can tell apart a field, the record that a reference leads to, and the records that refer
 * here, which are called after their table.
 */
function distinct(tables: readonly DraftTable[]): readonly DraftTable[] {
  return tables.map((table) => {
    const referring = tables.filter(({ fields }) => fields.some(({ data }) => data.references === table.name))
    const taken = new Set(referring.map(({ name }) => name))
    const leading = table.fields.filter(({ data }) => data.references !== undefined)
    const renamed = new Map<DraftField, string>()
    const names = new Set(table.fields.map(({ name }) => name))
    for (const field of leading) {
      const name = taken.has(parentName(field.name)) ? free(otherName(field, table), names) : field.name
      const step = parentName(name)
      if (name !== field.name) renamed.set(field, name)
      names.add(name)
      taken.add(step)
    }
    for (const field of table.fields) {
      const name = renamed.get(field) ?? field.name
      if (!taken.has(name)) continue
      const other = free(`${name}Value`, new Set([...names, ...taken]))
      names.add(other)
      renamed.set(field, other)
    }
    const fields = table.fields.map((field) => {
      const name = renamed.get(field)
      return name === undefined
        ? field
        : {
            ...field,
            name,
            remarks: [...field.remarks, `not ${field.name}, since row.${stepAt(field, table)} is something else`],
          }
    })
    return { ...table, fields }
  })
}

/** What a reference is called whose record would be called like something else: `parentCategoryId`, where it leads to the same table. */
function otherName({ name, data }: DraftField, table: DraftTable): string {
  const step = parentName(name)
  return data.references === table.name
    ? `parent${step.slice(0, 1).toUpperCase()}${step.slice(1)}Id`
    : `${step}RecordId`
}

const stepAt = ({ name, data }: DraftField, table: DraftTable): string =>
  data.references !== undefined && table.fields.every((each) => each.name !== parentName(name))
    ? parentName(name)
    : name

/** The convention by which most names need no word of their own. */
function namingOf(tables: readonly DraftTable[]): Naming {
  const names = tables.flatMap(({ name, stored, fields }) => [
    [name, stored.name] as const,
    ...fields.map((field) => [field.name, field.column] as const),
  ])
  const fit = (naming: Naming) => names.filter(([name, stored]) => conventional(naming, name) === stored).length
  return fit('snakeCase') > fit('asWritten') ? 'snakeCase' : 'asWritten'
}
