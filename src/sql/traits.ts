import { fieldOf, type FieldType, type Shape, storedField } from '../model/index.js'
import type { Dialect, Place, Trait, Traits } from './dialect.js'
import { type Fragment, needs, raw, sql, textSlot } from './fragment.js'
import { columnNamed, type Names, placeOfField, tableNamed } from './names.js'

/** What has to be known of the database's columns here. */
interface Known extends Names {
  readonly dialect: Dialect
  readonly traits: Traits
  /** Whether what is compiled is to stand in a statement of somebody else's, in front of which nothing can stand. */
  readonly isPiece?: boolean
}

/** No column is what the model does not say. */
export const NO_TRAITS: Traits = new Map()

/** Whether it is known which columns have which traits: where it is not, each is taken to have them all. */
export const areKnown = (traits: Traits): boolean => traits.get('') === undefined

/** Whether the database has a column with this trait. */
export const hasTrait = ({ traits, rulebook }: Known, table: string, field: string, trait: Trait): boolean =>
  traits.get(placeOfField(rulebook.model, table, field))?.has(trait) === true

/** The traits by which a column of a type is read and written otherwise, the first that it has. */
const OTHERWISE: Partial<Readonly<Record<FieldType, readonly Trait[]>>> = {
  timestamp: ['zoneless'],
  time: ['fine'],
  text: ['textual', 'words', 'other', 'padded'],
  choice: ['textual', 'words', 'other', 'padded'],
}

/** The same of a list, by what it is made of. */
const LISTS: Partial<Readonly<Record<NonNullable<Shape['item']>, readonly Trait[]>>> = {
  text: ['texts'],
  integer: ['numbers'],
  bigInteger: ['numbers'],
}

/** The trait by which a column is read and written otherwise, where it has one. */
export function otherwise(known: Known, table: string, field: string): Trait | undefined {
  const { type, item } = fieldOf(known.rulebook.model, table, field)
  const traits = type === 'list' ? LISTS[item ?? 'text'] : OTHERWISE[type]
  return traits?.find((trait) => hasTrait(known, table, field, trait))
}

/** A column as it compares. */
export function readable(known: Known, table: string, field: string, column: Fragment): Fragment {
  const trait = otherwise(known, table, field)
  // Blanks behind a text make no difference there, and its index serves as it is.
  const own = (trait && trait !== 'padded' && known.dialect.readable?.(column, trait)) || column
  return isZoned(known, table, field) ? inUtc(known, own) : own
}

/** Whether the session's zone makes other moments of a column. */
export const isZoned = (known: Known, table: string, field: string): boolean =>
  fieldOf(known.rulebook.model, table, field).type === 'timestamp' && hasTrait(known, table, field, 'zoned')

/** A column of moments that follow the session's zone: the statement is given another, or, where it cannot be, each is moved. */
function inUtc({ dialect, traits, isPiece }: Known, column: Fragment): Fragment {
  if (!isPiece) return sql`${needs('utc')}${column}`
  return (areKnown(traits) && dialect.readable?.(column, 'zoned')) || column
}

/** A column, as it compares, as it is handed out. */
export function handedOut(known: Known, table: string, field: string, column: Fragment): Fragment {
  const isPadded = otherwise(known, table, field) === 'padded'
  return (isPadded && known.dialect.readable?.(column, 'padded')) || column
}

/** A value as a column takes it. */
export function writable(known: Known, table: string, field: string, value: Fragment): Fragment {
  const trait = otherwise(known, table, field)
  return (trait && known.dialect.writable?.(value, trait, placeIn(known, table, field))) ?? value
}

/** A value as an index on a column finds it. */
export function searchable(known: Known, table: string, field: string, value: Fragment): Fragment {
  const trait = otherwise(known, table, field)
  const found = trait && known.dialect.searchable?.(value, trait, placeIn(known, table, field))
  return found ?? writable(known, table, field, value)
}

function placeIn(known: Known, table: string, field: string): Place {
  return {
    table: raw(tableNamed(known, table)),
    column: raw(columnNamed(known, table, field)),
    named: textSlot(storedField(known.rulebook.model, table, field)),
  }
}
