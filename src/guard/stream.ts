import { gotReady } from './decisions.js'
import { InputError, tableOf } from '../model/index.js'
import { ask, type GivenOptions } from './ask.js'
import type { ReadRecord } from './backend.js'
import { list } from './reads.js'
import type { Session } from './session.js'

/** All the records a list would return, read in batches, each continued after the last record of the one before. */
export async function* stream(
  session: Session,
  table: string,
  { batch = 500, ...options }: GivenOptions & { readonly batch?: number },
): AsyncGenerator<ReadRecord, void> {
  if (!Number.isSafeInteger(batch) || batch < 1) {
    throw new InputError(table, { batch: 'must be a whole number, 1 or more' })
  }
  await gotReady(session)
  const { model } = session.rulebook
  // What the records are sorted by has to be read, if only to know where to go on.
  const { order } = ask(model, table, 'stream', options, () => true).asked
  const { fields } = options
  const read = fields && { fields: [...new Set([...fields, ...order.map(({ field }) => field)])] }
  const { key } = tableOf(model, table)
  const extra = (read?.fields ?? []).filter((name) => !fields?.includes(name) && !key.includes(name))
  let after: ReadRecord | undefined
  for (;;) {
    const page = await list(session, table, { ...options, ...read, limit: batch, ...(after && { after }) })
    after = page.at(-1)
    for (const record of page)
      yield Object.fromEntries(Object.entries(record).filter(([name]) => !extra.includes(name)))
    if (page.length < batch) return
  }
}
