import { AsyncLocalStorage } from 'node:async_hooks'
import {
  type Backend,
  type ChangeRequest,
  type CreateRequest,
  type Given,
  keySlot,
  type Place,
  type RemoveRequest,
  type Store,
  valueSlot,
  type WritePlan,
  type Written,
} from '../guard/index.js'
import { childrenOf, type ModelData, tableOf } from '../model/index.js'
import type { Change, Changes, Followed, KnownRow } from './changes.js'

/**
 * A store that tells of everything that guards write to it, on any database. What is written past them, or by another
 * process, it does not know: on PostgreSQL, {@link followTriggers} does.
 *
 * @param store a connector, such as `sqliteStore(database)`
 * @example
 * const store = followWrites(sqliteStore(database))
 * const guard = createGuard({ rules, store })
 * const live = await createLive({ handler: createHandler({ guard, identity }), store })
 */
export function followWrites<S extends Store>(store: S): Followed<S> {
  const ears = new Set<(change: Change) => void>()
  const changes: Changes = {
    listen: (hear) => {
      ears.add(hear)
      return Promise.resolve(() => Promise.resolve(void ears.delete(hear)))
    },
  }
  const tell = (all: readonly Change[]) => {
    for (const change of all) for (const hear of ears) hear(change)
  }
  return {
    ...store,
    changes,
    backend: (rulebook) => following(store.backend(rulebook), rulebook.model, tell),
  }
}

function following(backend: Backend, model: ModelData, tell: (all: readonly Change[]) => void): Backend {
  /** What the transaction around a write has written, which nobody sees before it ends. */
  const written = new AsyncLocalStorage<Change[]>()
  const place: Place = new Proxy(backend.place, {
    get: (target, name) => (name === 'transaction' ? transaction : (Reflect.get(target, name) as unknown)),
  })

  async function transaction<T>(work: (inside: Place) => Promise<T>): Promise<T> {
    const kept: Change[] = []
    try {
      return await written.run(kept, () => backend.place.transaction(work))
    } finally {
      // Also where it failed: not every failure says that nothing was written.
      tell(kept)
    }
  }

  const telling = (plan: WritePlan, changesOf: (given: Given, done: Written | undefined) => readonly Change[]) => {
    const note = (given: Given, done?: Written) => {
      if (done?.touched === 0) return
      const kept = written.getStore()
      const all = changesOf(given, done)
      if (kept) kept.push(...all)
      else tell(all)
    }
    const noted: WritePlan = {
      ...plan,
      run: async (at, bindings) => {
        let done: Written | undefined
        try {
          done = await plan.run(at, bindings)
          return done
        } finally {
          note(bindings.given, done)
        }
      },
    }
    return noted
  }

  return new Proxy(backend, {
    get: (target, name) => {
      if (name === 'place') return place
      if (name === 'create')
        return (request: CreateRequest) => telling(target.create(request), createdBy(model, request))
      if (name === 'change')
        return (request: ChangeRequest) => telling(target.change(request), changedBy(model, request))
      if (name === 'remove')
        return (request: RemoveRequest) => telling(target.remove(request), removedBy(model, request))
      const value = Reflect.get(target, name) as unknown
      return typeof value === 'function' ? (value.bind(target) as unknown) : value
    },
  })
}

const numbers = (count: number): readonly number[] => Array.from({ length: count }, (_, at) => at)

const createdBy = (model: ModelData, { table, stored, records }: CreateRequest) => {
  const { key } = tableOf(model, table)
  return (given: Given, done: Written | undefined): readonly Change[] => {
    const [keys, seen] = [readFrom(done?.keys), readFrom(done?.records)]
    const rows = numbers(records).map((at) => {
      const values = Object.fromEntries(stored.map((name) => [name, given[valueSlot(name, at)]]))
      return { ...values, ...keys[at], ...keyIn(seen[at], key) }
    })
    return [{ table, rows }]
  }
}

/** What cannot be read is not known here; whoever wrote it is told. */
function readFrom<T>(read: (() => readonly T[]) | undefined): readonly T[] {
  try {
    return read?.() ?? []
  } catch {
    return []
  }
}

const keyIn = (record: KnownRow | undefined, key: readonly string[]): KnownRow =>
  record ? Object.fromEntries(key.map((name) => [name, record[name]])) : {}

const keysIn = (model: ModelData, table: string, records: number, given: Given): readonly KnownRow[] =>
  numbers(records).map((at) =>
    Object.fromEntries(tableOf(model, table).key.map((name) => [name, given[keySlot(name, at)]])),
  )

const changedBy = (model: ModelData, { table, changes, settable, records }: ChangeRequest) => {
  const { fields: known } = tableOf(model, table)
  const stamped = Object.keys(changes.stamps)
  // What the database computes can change with whatever does.
  const computed = Object.keys(known).filter((name) => known[name]?.filled === 'computed')
  const fields = [...settable, ...stamped, ...computed]
  return (given: Given): readonly Change[] => {
    const set = Object.fromEntries(
      settable.filter((name) => !stamped.includes(name)).map((name) => [name, given[name]]),
    )
    const keys = keysIn(model, table, records, given)
    return [{ table, fields, rows: keys.flatMap((key) => [key, { ...key, ...set }]) }]
  }
}

const removedBy = (model: ModelData, { table, records, leaving }: RemoveRequest) => {
  const tables = new Set<string>()
  const gather = (parent: string) => {
    for (const child of childrenOf(model, parent)) {
      if (tables.has(child.table)) continue
      tables.add(child.table)
      gather(child.table)
    }
  }
  // What refers to a record may go with it, and what refers to that; the database does not say.
  if (!leaving) gather(table)
  const others = [...tables].map((child) => ({ table: child }))
  return (given: Given): readonly Change[] => [{ table, rows: keysIn(model, table, records, given) }, ...others]
}
