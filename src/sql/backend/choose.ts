import type { Condition } from '../../condition/index.js'
import { type Bindings, type Form, LIMIT, OFFSET, type Order, withAnswer } from '../../guard/index.js'
import { bigIntAsText, schemasOf, storedTable, tableOf } from '../../model/index.js'
import { chooseForm } from '../cost.js'
import { type Branches, branchesOf, isByKey } from '../forms.js'
import { areFound, isIndexed, missingFor, searchedBy } from '../indexes.js'
import { planReach, planRows, type ReachPlan } from '../reach.js'
import { placeOf, placeOfField, schemasIn } from '../names.js'
import { render } from '../statement.js'
import { otherwise } from '../traits.js'
import type { SqlPlace } from './place.js'
import { compilationOf, runStatement, tell, type Workshop } from './planned.js'
import type { Catalogue } from './reaches.js'
import { placesIn } from './told.js'

/** Below so many records, every form is quick, and finding out costs more than it gains. */
const FEW = 300

/** How many records a table is taken to have that does not tell. */
const UNTOLD = 10_000

/** What a choice of form was made from. */
export interface Choice {
  readonly form: Form
  readonly rows?: number
  readonly reach?: number
  readonly missing?: readonly string[]
}

/**
 * Chooses how a query finds its records, for a caller and how many are wanted.
 *
 * @param wanted from the start of the order; `Infinity` for all
 */
type Chooser = (at: SqlPlace, bindings: Bindings, wanted: number) => Choice | Promise<Choice>

/**
 * Prepares to choose how a filter finds its records.
 *
 * @param order what they are sorted by; nothing where any will do
 */
export function chooser(workshop: Workshop, table: string, filter: Condition, order: readonly Order[] = []): Chooser {
  const { rulebook, dialect, reaches } = workshop
  // Without an OR over subqueries, the database's own planner knows best.
  const branches = branchesOf(filter)
  if (!branches) return () => PLAIN
  const { key } = tableOf(rulebook.model, table)
  // Records named by their keys are few, and each is looked up on its own.
  if (branches.rest.some((each) => isByKey(each, key))) return () => WALK
  const look = lookAt(workshop, table, branches, order)
  return (at, bindings, wanted) =>
    withAnswer(
      reaches.catalogue(() => readCatalogue(workshop, at)),
      (catalogue) => {
        const rows = catalogue.rows[table] ?? 0
        if (rows < FEW) return { form: 'gather', rows }
        const { gathers, searched, isFound, isSorted, missing, plan } = look(catalogue)
        const few = Number.isFinite(wanted) && isSorted
        const cap = Math.ceil(few ? 4 * Math.sqrt(Math.max(wanted, 1) * rows) : rows / 2)
        const reached = reaches.reach(branches, `${cap} ${whoAsks(bindings)}`, async () => {
          const given = { ...bindings.given, $cap: cap }
          const { rows: counts } = await runStatement(dialect, at, plan.statement, { ...bindings, given })
          const row = counts[0] ?? {}
          const found = plan.reachOf(row, rows)
          // Beyond the cap, it may be any number: for a few records that makes no difference, for all it might be all.
          return { reach: found >= cap && !few ? rows : found, passing: plan.passingOf(row, rows, cap) }
        })
        return withAnswer(reached, ({ reach, passing }) => {
          const outlook = { rows, reach, passing, isFound, wanted: few ? wanted : Infinity, gathers, searched }
          return { form: chooseForm(dialect, outlook), rows, reach, ...(missing.length > 0 && { missing }) }
        })
      },
    )
}

const PLAIN: Choice = { form: 'scan' }
const WALK: Choice = { form: 'walk' }

/** What leads to the branches' records, and how to count these; found out anew where the database's indexes may differ. */
function lookAt(workshop: Workshop, table: string, branches: Branches, order: readonly Order[]) {
  let known:
    | {
        readonly of: Catalogue
        readonly gathers: boolean
        readonly searched: number
        readonly isFound: boolean
        readonly isSorted: boolean
        readonly missing: readonly string[]
        readonly plan: ReachPlan
      }
    | undefined
  return (catalogue: Catalogue) => {
    if (known?.of === catalogue) return known
    const indexed = branches.of.map((branch) => isIndexed(branch, table, catalogue.indexes))
    const isFound = areFound(branches.rest, table, catalogue.indexes)
    const plan = planReach(compilationOf(workshop), table, branches, indexed, isFound)
    const searched = [...new Set(branches.of.flatMap((each) => searchedBy(each, catalogue.indexes)))]
      .map((each) => catalogue.rows[each] ?? 0)
      .reduce((sum, each) => sum + each, 0)
    const missing = [
      ...new Set(branches.of.flatMap((each) => missingFor(each, table, catalogue.indexes, catalogue.unserved))),
    ]
    const isSorted = hasIndex(workshop, table, order, catalogue)
    return (known = { of: catalogue, gathers: indexed.every(Boolean), searched, isFound, isSorted, missing, plan })
  }
}

/** Whether an index has an order: by its first field, and all of it in one direction, where it has to be. */
function hasIndex(
  { dialect, rulebook }: Workshop,
  table: string,
  order: readonly Order[],
  { indexes }: Catalogue,
): boolean {
  const [first] = order
  if (!first || first.field === tableOf(rulebook.model, table).key[0]) return true
  if (first.sight || !indexes[table]?.has(first.field)) return false
  return dialect.turnsOrder || order.every(({ descending }) => descending === first.descending)
}

const attributesAsText = new WeakMap<Bindings['caller'], string>()

/** Who asks, and for what: whoever does so alike reaches as much. */
function whoAsks({ caller, given }: Bindings): string {
  const known = attributesAsText.get(caller) ?? JSON.stringify(caller.attributes, bigIntAsText)
  attributesAsText.set(caller, known)
  let asked = ''
  for (const name in given) {
    if (name !== LIMIT && name !== OFFSET) asked += ` ${JSON.stringify([name, given[name]], bigIntAsText)}`
  }
  return known + asked
}

/** What is known of a table of the database. */
interface Known {
  readonly columns: Set<string>
  rows?: number
  isCountable?: true
}

/** The indexes that serve fields of the model, and about how many records its tables have. */
export async function readCatalogue(
  { dialect, rulebook, columns }: Omit<Workshop, 'reaches'>,
  at: SqlPlace,
): Promise<Catalogue> {
  const { model } = rulebook
  // Of what compares otherwise than it is stored, an index serves equality with a value alone.
  const isServed = (table: string, field: string) =>
    [undefined, 'padded'].includes(otherwise({ dialect, rulebook, traits: columns.traits }, table, field))
  const told = new Map<string, Known>()
  for (const row of await tell(dialect, at, render(dialect.catalogue(schemasIn(schemasOf(model))), dialect))) {
    const { rows, column } = row
    const columnPlaces = placesIn(row, 'column')
    for (const [which, place] of placesIn(row, 'table').entries()) {
      const known = told.get(place) ?? { columns: new Set() }
      told.set(place, known)
      known.columns.add(columnPlaces[which] as string)
      if (rows !== null) known.rows = Number(rows)
      if (column === '') known.isCountable = true
    }
  }
  const indexes: Record<string, ReadonlySet<string>> = {}
  const unserved = new Set<string>()
  const rows: Record<string, number> = {}
  for (const [table, { fields }] of Object.entries(model.tables)) {
    const { schema, name } = storedTable(model, table)
    const known = told.get(placeOf(schema, name))
    const indexed = Object.keys(fields).filter(
      (field) => known?.columns.has(placeOfField(model, table, field)) && isServed(table, field),
    )
    indexes[table] = new Set(indexed)
    for (const field of Object.keys(fields)) if (!isServed(table, field)) unserved.add(`${table}.${field}`)
    rows[table] = known?.rows ?? UNTOLD
    const counted = known?.rows === undefined && known?.isCountable ? planRows({ dialect, rulebook }, table) : undefined
    // Not every table tells; one that does not is taken to be large enough for a look at what the caller reaches.
    if (counted) rows[table] = Number((await tell(dialect, at, counted))[0]?.['rows'] ?? 0)
  }
  return { indexes, rows, unserved }
}
