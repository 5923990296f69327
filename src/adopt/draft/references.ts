import { comparesAs, type Shape } from '../../model/index.js'
import type { CatalogueReference } from '../catalogue/catalogue.js'
import { type Kept, placeOf } from './kept.js'
import { WORDS } from '../words.js'
import { alike, codeName } from './names.js'

/** Where a column leads. */
export interface DraftReference {
  /** The table of the model; left out, where a reference cannot lead there. */
  readonly table?: string
  readonly remarks: readonly string[]
}

/** Where the columns of a table lead: by the database's foreign keys, and by what they are called. */
export function referencesIn(kept: Kept, all: readonly Kept[]): ReadonlyMap<string, DraftReference> {
  const found = new Map<string, DraftReference>()
  for (const { columns, schema, table, to, onDelete } of kept.table.references) {
    const target = all.find((each) => each.table.schema === schema && each.table.name === table)
    const [column, ...more] = columns
    if (column === undefined) continue
    const why = unfit(kept, column, target, to, more.length > 0)
    const place = placeOf({ ...(schema !== undefined && { schema }), name: table })
    const remark = `refers to ${place} (${to.join(', ')}), ${why ?? ''}`
    // A reference that fits stays, whatever else the column is part of.
    if (why === undefined)
      found.set(column, { table: (target as Kept).name, remarks: onDelete ? [GOES[onDelete]] : [] })
    else if (!found.has(column)) found.set(column, { remarks: [remark] })
  }
  for (const { name } of kept.columns) {
    if (found.has(name)) continue
    const target = calledAfter(kept, name, all)
    if (target)
      found.set(name, { table: target.name, remarks: ['a reference by its name; the database has no foreign key'] })
  }
  return found
}

/** What the database does by itself, when the record that is referred to is removed. */
const GOES = {
  removed: 'the record goes with the one it refers to, whoever may delete it (ON DELETE CASCADE)',
  emptied: 'emptied with the record it refers to, whoever may change it (ON DELETE SET …)',
} as const satisfies Record<NonNullable<CatalogueReference['onDelete']>, string>

function unfit(
  kept: Kept,
  column: string,
  target: Kept | undefined,
  to: readonly string[],
  isComposite: boolean,
): string | undefined {
  if (!target) return 'which is not in the model'
  if (isComposite || target.key.length > 1) return 'a key of several columns, which no reference here leads to'
  if (target.key[0] !== to[0]) return 'which is not its key'
  return isAlike(shapeOf(kept, column), shapeOf(target, target.key[0] as string))
    ? undefined
    : 'which is of another type'
}

const shapeOf = ({ columns }: Kept, name: string): Shape | undefined =>
  columns.find((each) => each.name === name)?.shape

/** A number that refers to one from a sequence is no larger than that. */
function isAlike(left: Shape | undefined, right: Shape | undefined): boolean {
  if (!left || !right) return false
  const isWhole = ({ type }: Shape) => type === 'integer' || type === 'bigInteger'
  return (isWhole(left) && isWhole(right)) || comparesAs(left) === comparesAs(right)
}

/** The table that a column is called after: `MemberID`, or `Member`, after `Members`, and `OwnerID` after the one table of people. */
function calledAfter(kept: Kept, column: string, all: readonly Kept[]): Kept | undefined {
  if (kept.key.length === 1 && kept.key[0] === column) return undefined
  const name = codeName(column, 'field')
  const [, stem] = /^(.+)Id$/.exec(name) ?? []
  const isPersons = [WORDS.owner, WORDS.handler, WORDS.concerned, WORDS.editor].some((each) => each.test(name))
  const fitting = all.filter(
    (each) => each.key.length === 1 && isAlike(shapeOf(kept, column), shapeOf(each, each.key[0] as string)),
  )
  const [after, ...others] = fitting.filter(
    (each) => (stem !== undefined || each !== kept) && alike(each.name, stem ?? name),
  )
  if (after && others.length === 0) return after
  const [people, ...more] = fitting.filter((each) => isPersons && WORDS.people.test(each.name))
  return more.length === 0 && (stem !== undefined || /By$/.test(name)) ? people : undefined
}
