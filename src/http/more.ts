import { HTTP_LIMITS } from './limits.js'
import type { ReadAsked } from './query/options.js'

type ReadRecord = Readonly<Record<string, unknown>>

/**
 * A record with no more related ones than the limit. Where there are more, `$more` names the relations, so that a part is never
 * taken for the whole; whoever asks for so many with `$top` knows that it is a part.
 */
export function withinLimits(record: ReadRecord, { with: related }: ReadAsked): ReadRecord {
  if (!related) return record
  const more: string[] = []
  const cut = Object.entries(related).map(([name, asked]) => {
    const found = record[name] as ReadRecord | readonly ReadRecord[] | null | undefined
    if (!Array.isArray(found)) return [name, found && withinLimits(found as ReadRecord, asked)]
    if (found.length > HTTP_LIMITS.relatedRecords) more.push(name)
    const most = (found as readonly ReadRecord[]).slice(0, HTTP_LIMITS.relatedRecords)
    return [name, most.map((each) => withinLimits(each, asked))]
  })
  return { ...record, ...(Object.fromEntries(cut) as ReadRecord), ...(more.length > 0 && { $more: more }) }
}
