import type { DriverRow } from '../answers.js'
import { isTrue } from '../stored.js'
import { placeOf } from '../names.js'

/** What a database tells of a table or a column: the places that a model can mean it by. */
export function placesIn({ schema, own, table, column }: DriverRow, part: 'table' | 'column'): readonly string[] {
  const names = [String(table), part === 'column' ? String(column) : ''] as const
  return [placeOf(String(schema), ...names), ...(isTrue(own) ? [placeOf(undefined, ...names)] : [])]
}
