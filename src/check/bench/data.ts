import type { Data, MemoryRecord } from '../../decide/index.js'
import { type ModelData, PachterError, parseKey, tableOf } from '../../model/index.js'
import type { Workbench } from './workbench.js'

/** What was asked for looks at every record in memory, and there are too many; nothing was read. */
export class TooManyRecordsError extends PachterError {
  readonly code = 'records-too-many'
}

/** So many records are taken into memory. */
const MOST = 20_000

/**
 * All records of all tables, for what is worked out in memory.
 * @throws {TooManyRecordsError} where there are more than 20,000
 */
export async function readData({ everything, rulebook }: Workbench): Promise<Data> {
  const tables = Object.keys(rulebook.model.tables)
  let size = 0
  for (const table of tables) size += await everything.count(table)
  if (size > MOST) {
    throw new TooManyRecordsError(
      `This looks at every record, and there are ${size}: at most ${MOST} fit. Use fixtures instead of the whole database.`,
    )
  }
  const data: Record<string, readonly MemoryRecord[]> = {}
  for (const table of tables) data[table] = await everything.list(table)
  return data
}

/** The record with this key, as it is printed. */
export function findRecord(model: ModelData, table: string, written: string, data: Data): MemoryRecord | undefined {
  const key = parseKey(model, table, written)
  return data[table]?.find((record) => tableOf(model, table).key.every((name) => record[name] === key[name]))
}
