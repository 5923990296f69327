import type { MemoryRecord } from '../../decide/index.js'
import type { UntypedStore } from '../../guard/index.js'

/**
 * Writes through a scoped store, whatever the action is called.
 * @returns the record as the caller sees it; nothing of a delete
 */
export async function write(
  scoped: UntypedStore,
  action: string,
  table: string,
  key: unknown,
  values: MemoryRecord,
): Promise<MemoryRecord | undefined> {
  if (action === 'create') return scoped.create(table, values)
  if (action === 'update') return scoped.update(table, key, values)
  if (action !== 'delete') return scoped.act(table, action, key, values)
  await scoped.delete(table, key)
  return undefined
}
