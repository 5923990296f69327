import type { Rulebook } from '../../rules/index.js'
import { readCatalogue } from './choose.js'
import { outermost } from './place.js'
import { knownColumns } from './planned.js'
import type { Catalogue } from './reaches.js'
import type { SqlStore } from './sql-store.js'

/** The fields of the model that are the first of an index, by table, and about how many records each table has. */
export async function readIndexes(store: SqlStore, rulebook: Rulebook): Promise<Catalogue> {
  const { dialect } = store
  return readCatalogue({ rulebook, dialect, columns: await knownColumns(store, rulebook) }, outermost(store))
}
