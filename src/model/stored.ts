import { ModelError } from './errors.js'
import { show } from './show.js'
import { fieldOf, type ModelData, tableOf } from './tables.js'

/** The conventions by which a model's names become those of the database. */
export const NAMINGS = ['asWritten', 'snakeCase'] as const

/** How a model's names become those of the database, where nothing else is said of one. */
export type Naming = (typeof NAMINGS)[number]

/** What the database calls a table. */
export function storedTable(model: ModelData, table: string): { readonly schema?: string; readonly name: string } {
  return { name: table, ...tableOf(model, table).stored }
}

/** What the database calls a field. */
export const storedField = (model: ModelData, table: string, field: string): string =>
  fieldOf(model, table, field).stored ?? field

/** The schemas a model names, each once. */
export const schemasOf = ({ tables }: ModelData): readonly string[] =>
  [...new Set(Object.values(tables).flatMap(({ stored }) => stored?.schema ?? []))].sort()

/** A name as a convention has it: `holderId` as `holder_id`. */
export function conventional(naming: Naming, name: string): string {
  if (naming === 'asWritten') return name
  return name
    .replace(/([a-z0-9])([A-Z])/g, '$1_$2')
    .replace(/([A-Z])([A-Z][a-z])/g, '$1_$2')
    .toLowerCase()
}

/** What statements call their own tables by: a table called so could be taken for one of them. */
const OURS = /^_[a-z]?\d*$/i

/** The longest name that a database takes. */
const LONGEST = 64

/** Checks that a model's tables and fields can each be told apart in the database. */
export function checkStored(model: ModelData): void {
  const tables = new Map<string, string>()
  for (const [table, { stored, fields }] of Object.entries(model.tables)) {
    if (stored?.schema !== undefined) assertStored('schema', stored.schema, table)
    const place = storedTable(model, table)
    assertStored('table', place.name, table)
    claim(tables, JSON.stringify([place.schema, place.name]), `the table ${table}`)
    const columns = new Map<string, string>()
    for (const field of Object.keys(fields)) {
      const column = storedField(model, table, field)
      assertStored('column', column, `${table}.${field}`)
      claim(columns, column, `the field ${table}.${field}`)
    }
  }
}

function claim(taken: Map<string, string>, place: string, what: string): void {
  const other = taken.get(place)
  if (other !== undefined) throw new ModelError(`${other} and ${what} are stored in the same place.`)
  taken.set(place, what)
}

/** Whether statements can name something so: whatever an old database calls it, it is quoted wherever it stands. */
export function isStorable(name: string, kind: 'schema' | 'table' | 'column'): boolean {
  const isFit = typeof name === 'string' && name.length > 0 && name.length <= LONGEST && name.trim() === name
  // eslint-disable-next-line no-control-regex -- what cannot be written in a name
  return isFit && !/[\0-\x1f]|\p{Surrogate}/u.test(name) && !(kind === 'table' && OURS.test(name))
}

function assertStored(kind: 'schema' | 'table' | 'column', name: string, where: string): void {
  if (kind === 'table' && OURS.test(name)) {
    throw new ModelError(`${where} is stored as ${show(name)}, a name that statements use; make a view of it.`)
  }
  if (isStorable(name, kind)) return
  throw new ModelError(
    `${where} is stored under ${show(name)}, which cannot name a ${kind}: ` +
      `such a name has 1 to ${LONGEST} characters, none of them for control, and no blanks around it.`,
  )
}
