import type { DraftField, DraftTable } from '../draft/draft.js'

/** First rules for a database, from what its tables and columns suggest. */
export interface Proposal {
  /** The table of the people who sign in, where one looks like that. */
  readonly people?: DraftTable
  /** What callers have besides their id. */
  readonly organisation?: Organisation
  readonly roles: readonly string[]
  readonly tables: readonly TableProposal[]
}

/** The field by which every record belongs to an organisation, and callers to theirs. */
export interface Organisation {
  readonly field: string
  /** The table of organisations. */
  readonly table: string
  readonly optional: boolean
  /** The tables without that field. */
  readonly outside: readonly string[]
}

/** First rules for a table; one without grants stays closed. */
export interface TableProposal {
  readonly table: DraftTable
  readonly ties: readonly Suggested[]
  readonly grants: readonly SuggestedGrant[]
  readonly stamps: { readonly create: Stamps; readonly update: Stamps }
  readonly gone?: {
    readonly field: DraftField
    readonly when: string
    readonly set?: string
    readonly because: string
  }
  readonly fence?: Suggested
  /** What a person should know of it. */
  readonly remarks: readonly string[]
}

/** What the server sets: TypeScript, by field. */
export type Stamps = Readonly<Record<string, string>>

/** A condition as TypeScript, under a name, and what suggests it. */
export interface Suggested {
  readonly name: string
  readonly that: string
  readonly because: string
}

/** Who may do something. */
export interface SuggestedGrant {
  readonly action: 'read' | 'create' | 'update' | 'delete'
  readonly to: readonly string[]
  /** Left out, all. */
  readonly fields?: readonly string[]
}

/** Whether the database makes its values: what a write makes of it, no rule can foresee. */
export const isComputed = ({ data }: DraftField): boolean => data.filled === 'computed'

/** The fields of a table that refer to another, and that are not computed. */
export const leadingTo = ({ fields }: DraftTable, table: string | undefined): readonly DraftField[] =>
  table === undefined ? [] : fields.filter((field) => field.data.references === table && !isComputed(field))
