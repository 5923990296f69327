import type { Shape } from '../../model/index.js'

/** What a database says of itself, as far as a model is made of it. Plain data: it is kept beside the model. */
export interface Catalogue {
  readonly dialect: 'postgresql' | 'sqlite' | 'mariadb'
  readonly tables: readonly CatalogueTable[]
}

/** Asks the database something. */
export type Ask = <R extends object>(text: string) => Promise<readonly R[]>

/** A table or a view of a database. */
export interface CatalogueTable {
  /** The schema it is in, where that is not the connection's own. */
  readonly schema?: string
  readonly name: string
  readonly isView?: true
  /** Whether whoever looks may not read it. */
  readonly isClosed?: true
  /** Whether its rows are also those of tables that inherit from it. */
  readonly isInherited?: true
  readonly columns: readonly CatalogueColumn[]
  /** The columns of its primary key. */
  readonly key: readonly string[]
  /** The columns of each other key. */
  readonly uniques: readonly (readonly string[])[]
  readonly references: readonly CatalogueReference[]
  /** What a person should know of it. */
  readonly remarks?: readonly string[]
}

/** A column of a table. */
export interface CatalogueColumn {
  readonly name: string
  /** Its type in the database's words. */
  readonly type: string
  /** What its values are; left out, where no field can hold them. */
  readonly shape?: Shape
  /** Why not, or what to look out for. */
  readonly remark?: string
  readonly isOptional?: true
  /** Whether the database numbers new records in it. */
  readonly isNumbered?: true
  readonly filled?: 'default' | 'computed'
}

/** A foreign key. */
export interface CatalogueReference {
  readonly columns: readonly string[]
  readonly schema?: string
  readonly table: string
  readonly to: readonly string[]
  /** What becomes of a row when the one that it refers to is removed, where that is not kept from it. */
  readonly onDelete?: 'removed' | 'emptied'
}

/** What SQL says of that. */
export const onDelete = (said: string): Pick<CatalogueReference, 'onDelete'> =>
  /^CASCADE$/i.test(said) ? { onDelete: 'removed' } : /^SET /i.test(said) ? { onDelete: 'emptied' } : {}

/** What a column holds, as far as its type says. */
export type Held = Pick<CatalogueColumn, 'shape' | 'remark'>

/** What keeps records from being there together, and no model says: whoever writes can tell by it that there is another. */
export const toldBy = (index: string): string => `has ${index}, which no model says: it can be told`

/** A column whose values no field can hold. */
export const unheld = (remark: string): Held => ({ remark })

/** The same, for what is among its values. */
export const unheldFor = (values: string): Held => unheld(`has ${values} among its values; mend them, and adopt again`)

/** A number that is exact: by how many digits it has, and how many of them stand behind the point. */
export function exactNumber(digits: number | undefined, scale: number | undefined): Held {
  if (digits === undefined || scale === undefined)
    return unheld('has no limit to its digits; say decimal(…) if all fit')
  if (digits > 18) return unheld(`has ${digits} digits, and decimals here have at most 18`)
  if (scale === 0) return { shape: { type: digits <= 15 ? 'integer' : 'bigInteger' } }
  return scale <= 17 ? { shape: { type: 'decimal', scale } } : unheld('has no digit before the point')
}

/** The words that a condition of the database's lets a column have; none where it says something else. */
function wordsIn(condition: string, column: string): readonly string[] {
  const name = column.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')
  const found = new RegExp(
    `^[\\s(]*["\`\\[]?${name}["\`\\]]?\\)?(?:::[\\w ]+)?\\s*(?:IN\\s*\\(|=\\s*ANY\\s*\\(\\(?ARRAY\\[)(.*?)[\\])]`,
    'is',
  ).exec(condition)
  return quotedIn(found?.[1] ?? '')
}

/** A text column whose words are listed is a choice of them. */
export function chosen(held: Held, column: string, conditions: readonly string[]): Held {
  if (held.shape?.type !== 'text') return held
  const words = conditions.flatMap((condition) => wordsIn(condition, column))
  return words.length > 0 ? { ...held, shape: { type: 'choice', choices: words } } : held
}

/** Leaves out what does not hold. */
export const marked = <K extends string>(marks: Readonly<Record<K, boolean>>): { readonly [M in K]?: true } =>
  Object.fromEntries(Object.entries(marks).filter(([, holds]) => holds)) as { readonly [M in K]?: true }

/** Rows in groups, in the order in which each is first met. */
export function grouped<R>(rows: readonly R[], by: (row: R) => string): ReadonlyMap<string, readonly R[]> {
  const groups = new Map<string, R[]>()
  for (const row of rows) {
    const group = groups.get(by(row))
    if (group) group.push(row)
    else groups.set(by(row), [row])
  }
  return groups
}

/** The rows of a query that belong to each table. */
export function byTable<R extends { readonly table: string }>(rows: readonly R[]): (table: string) => readonly R[] {
  const groups = grouped(rows, ({ table }) => table)
  return (table) => groups.get(table) ?? []
}

/** Names that a database hands out as JSON. */
export const namesIn = (json: string): readonly string[] => JSON.parse(json) as string[]

/** The texts in quotes as SQL writes them. */
export const quotedIn = (text: string): readonly string[] =>
  (text.match(/'(?:[^']|'')*'/g) ?? []).map((word) => word.slice(1, -1).replaceAll("''", "'"))
