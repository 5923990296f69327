import type { ScopedStore, SqlPiece } from '../guard/index.js'
import type { FieldName, KeyFields, RecordOf, TableName, TablesOf } from '../model/index.js'

/** SQL text in pieces, with the values that stand between them. */
export interface Pieces {
  readonly strings: readonly string[]
  readonly values: readonly unknown[]
}

/** The part of a scoped store that hands out SQL. */
export type SqlSource<M> = Pick<ScopedStore<M, never>, 'filter' | 'view'>

/** No SQL of this library contains this character. */
const MARK = '\0'

/** Has SQL written with marks that can be told from all else, for {@link piecesOf}. */
export const marked = { placeholder: (number: number): string => `${MARK}${number}${MARK}` }

/** Takes marked SQL apart at its placeholders, for a builder that writes its own. */
export function piecesOf({ text, values }: SqlPiece): Pieces {
  const parts = text.split(MARK)
  return {
    strings: parts.filter((_, at) => at % 2 === 0),
    values: parts.filter((_, at) => at % 2 === 1).map((number) => values[Number(number) - 1]),
  }
}

/** A record as a view has it: what may be hidden is possibly `null`; a key never is. */
export type ViewRecord<M, T extends TableName<M>> = {
  readonly [F in FieldName<M, T>]: F extends KeyFields<TablesOf<M>[T]> ? RecordOf<M, T>[F] : RecordOf<M, T>[F] | null
}
