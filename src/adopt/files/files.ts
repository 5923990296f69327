import type { SqlStore } from '../../sql/index.js'
import type { Catalogue } from '../catalogue/catalogue.js'
import { readCatalogue } from '../catalogue/read.js'
import { draftOf, type Left } from '../draft/draft.js'
import { modelText } from '../draft/model-text.js'
import { propose } from '../propose/propose.js'
import { callerText, rulesText } from '../propose/rules-text.js'
import { configText, type Opening } from './config-text.js'
import { merge } from './merge.js'
import { samplePeople } from './people.js'

/** What adopting a database comes to. */
export interface Adoption {
  readonly catalogue: Catalogue
  /** The tables of the model, and whether anybody is proposed to be let in. */
  readonly tables: readonly { readonly name: string; readonly fields: number; readonly open: boolean }[]
  readonly people?: string
  readonly organisation?: string
  /** What is not in the model, and why. */
  readonly left: readonly Left[]
  /** The files, by their names from the folder of the configuration. */
  readonly files: Readonly<Record<string, string>>
}

/** Where the files go, and how the configuration opens the database. */
export interface AdoptOptions {
  /** The folder of model, caller and rules, beside the configuration. */
  readonly folder: string
  readonly file?: string
}

/**
 * Makes a model, a caller and first rules of what a database says of itself, as files of TypeScript. The database is only read.
 *
 * @param store any store on the database
 * @param options where the files go
 * @param known what the database says, where that was read before
 * @example
 * const { files } = await adopt(sqliteStore(new Database('korenveld.db')), { folder: 'access' })
 */
export async function adopt(
  store: Pick<SqlStore, 'dialect' | 'query'>,
  { folder, file }: AdoptOptions,
  known?: Catalogue,
): Promise<Adoption> {
  const catalogue = known ?? (await readCatalogue(store))
  const draft = draftOf(catalogue)
  const proposal = propose(draft)
  const opening: Opening = { dialect: catalogue.dialect, ...(file !== undefined && { file }) }
  const { people, organisation } = proposal
  return {
    catalogue,
    tables: proposal.tables.map(({ table, grants }) => ({
      name: table.name,
      fields: table.fields.length,
      open: grants.length > 0,
    })),
    ...(people && { people: people.name }),
    ...(organisation && { organisation: organisation.table }),
    left: draft.left,
    files: {
      [`${folder}/model.ts`]: modelText(draft),
      [`${folder}/caller.ts`]: callerText(draft, proposal),
      [`${folder}/rules.ts`]: rulesText(proposal),
      'pachter.config.ts': configText(opening, folder, await samplePeople(store, proposal), proposal),
    },
  }
}

/** What becomes of a file. */
export interface FileChange {
  readonly name: string
  readonly state: 'new' | 'changed' | 'as it was'
  readonly text: string
  /** Lines that were not written, since a person has written others in their place. */
  readonly left: readonly string[]
}

/**
 * What becomes of each file: a new one is written, one that was written before gets what is new, and keeps what a person
 * wrote.
 *
 * @param files as they would be written today
 * @param before as they were written last
 * @param now as they are; nothing where there is none
 */
export function fileChanges(
  files: Readonly<Record<string, string>>,
  before: Readonly<Record<string, string>>,
  now: (name: string) => string | undefined,
): readonly FileChange[] {
  return Object.entries(files).map(([name, next]) => {
    const current = now(name)
    if (current === undefined) return { name, state: 'new', text: next, left: [] }
    const { text, left } = merge(before[name] ?? next, current, next)
    return { name, state: text === current ? 'as it was' : 'changed', text, left }
  })
}
