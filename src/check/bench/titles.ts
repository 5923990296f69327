import type { MemoryRecord } from '../../decide/index.js'
import { isMissing } from '../../model/index.js'
import type { Workbench } from './workbench.js'

/** What a person knows a record by, on one line: people write titles, and a line of theirs is none of ours. */
export function titleOf({ titles }: Workbench, table: string, record: MemoryRecord | undefined): string | undefined {
  const value = record?.[titles[table] ?? '']
  const title = isMissing(value) ? '' : String(value).replaceAll(/\s+/g, ' ').trim()
  return title === '' ? undefined : title
}
