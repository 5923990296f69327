import { type Condition, normalise } from '../../condition/index.js'
import { expand, grantsFor, inForce, type Rulebook } from '../../rules/index.js'
import {
  compilationOn,
  countedUp,
  createIndex,
  type Indexes,
  missingFor,
  readIndexes,
  type SqlStore,
} from '../../sql/index.js'

/** A tie, and the indexes that lead to its records. */
export interface TieIndexes {
  readonly table: string
  /** The tie, or `fence`. */
  readonly tie: string
  readonly that: Condition
  /** The fields that an index would lead by, as `crops.bedId`; none where no index can. */
  readonly needs: readonly string[]
  readonly missing: readonly string[]
}

/** An index that is missing. */
export interface IndexAdvice {
  /** What it is on, as `crops.bedId`. */
  readonly field: string
  /** How many records its table has; of more than a million, that many. */
  readonly rows: number
  /** The ties that it would serve. */
  readonly serves: readonly TieIndexes[]
  /** What creates it. */
  readonly statement: string
}

/**
 * Tells which indexes the ties of the rules need to find their records, and which are missing. Nothing is built.
 *
 * @param only a table; left out, all
 * @example await adviseIndexes(store, rules, 'entries')
 */
export async function adviseIndexes(
  store: SqlStore,
  rulebook: Rulebook,
  only?: string,
): Promise<{ readonly ties: readonly TieIndexes[]; readonly missing: readonly IndexAdvice[] }> {
  const { indexes, unserved } = await readIndexes(store, rulebook)
  const known = await compilationOn(store, rulebook)
  const without = (that: Condition, table: string, built: Indexes) => [
    ...new Set(missingFor(that, table, built, unserved)),
  ]
  const tables = only === undefined ? Object.keys(rulebook.tables) : [only]
  const ties = tables.flatMap((table) =>
    tiesToList(rulebook, table).map(({ tie, that }): TieIndexes => {
      return { table, tie, that, needs: without(that, table, {}), missing: without(that, table, indexes) }
    }),
  )
  const fields = [...new Set(ties.flatMap(({ missing }) => missing))]
  const missing: IndexAdvice[] = []
  for (const field of fields) {
    const [table = '', name = ''] = field.split('.')
    missing.push({
      field,
      rows: await countedUp(store, rulebook, table),
      serves: ties.filter((each) => each.missing.includes(field)),
      statement: createIndex(known, table, name),
    })
  }
  return { ties, missing }
}

/** The ties by which records are listed, and what fences them off, with the rules of other tables put in their place. */
function tiesToList(rulebook: Rulebook, table: string): readonly { readonly tie: string; readonly that: Condition }[] {
  const rules = inForce(rulebook, table)
  const named = new Set(
    grantsFor(rules, 'list').flatMap(({ to }) => to.filter((who): who is string => typeof who === 'string')),
  )
  const found = [...named].map((tie) => ({ tie, that: rules.ties[tie] as Condition }))
  const all = rules.fence ? [...found, { tie: 'fence', that: rules.fence }] : found
  return all.map(({ tie, that }) => ({ tie, that: normalise(expand(rulebook, that)) }))
}
