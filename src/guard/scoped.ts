import { tableOf, UnknownNameError } from '../model/index.js'
import { type Action, type Rulebook, rulesOf } from '../rules/index.js'
import type { GivenOptions } from './ask.js'
import { changeMany, createMany, deleteMany } from './bulk.js'
import { decided, hasRole, rolesNow } from './decided.js'
import { announce, gotReady, told } from './decisions.js'
import type { BulkOptions } from './in-turn.js'
import { providing, type WriteOptions } from './provided.js'
import { basis, count, exists, explain, get, list } from './reads.js'
import { atomically, type Session } from './session.js'
import { stream } from './stream.js'
import { upsert } from './upsert.js'
import { judge } from './verdicts.js'
import { change, create, remove } from './writes.js'
import { filter, type FilterOptions, view } from './own-queries.js'

/** A scoped store that knows no model: any table, any key; for tools that work on whatever rules there are. */
export type UntypedStore = ReturnType<typeof scopedStore>

type Key = unknown
type Values = Readonly<Record<string, unknown>>

/** The methods of a scoped store, for a session; their types for apps stand in `guard.ts`. */
export function scopedStore(session: Session) {
  const { rulebook } = session
  return {
    list: (table: string, options: GivenOptions = {}) =>
      told(session, { method: 'list', action: 'list', table }, () => list(session, table, options)),
    get: (table: string, key: Key, options?: GivenOptions) =>
      told(session, { method: 'get', action: 'get', table, key }, () => get(session, table, key, options)),
    count: (table: string, options: GivenOptions = {}) =>
      told(session, { method: 'count', action: 'list', table }, () => count(session, table, options)),
    exists: (table: string, options: GivenOptions = {}) =>
      told(session, { method: 'exists', action: 'list', table }, () => exists(session, table, options)),
    stream: (table: string, options: GivenOptions = {}) => {
      announce(session, { method: 'stream', action: 'list', table })
      return stream(session, table, options)
    },
    create: (table: string, values: Values) =>
      told(session, { method: 'create', action: 'create', table }, () => create(session, table, values)),
    update: (table: string, key: Key, values: Values, options: WriteOptions = {}) =>
      told(session, { method: 'update', action: 'update', table, key }, () =>
        providing(session, table, key, options, (inside) => change(inside, table, 'update', key, values)),
      ),
    delete: (table: string, key: Key, options: WriteOptions = {}) =>
      told(session, { method: 'delete', action: 'delete', table, key }, () =>
        providing(session, table, key, options, (inside) => remove(inside, table, key)),
      ),
    act: async (table: string, action: Action, key: Key, values: Values = {}, options: WriteOptions = {}) => {
      assertOwnAction(rulebook, table, action)
      return told(session, { method: 'act', action, table, key }, () =>
        providing(session, table, key, options, (inside) => change(inside, table, action, key, values)),
      )
    },
    upsert: (table: string, values: Values) =>
      told(session, { method: 'upsert', action: 'update', table }, () => upsert(session, table, values)),
    createMany: (table: string, all: readonly Values[], options?: BulkOptions) =>
      told(session, { method: 'createMany', action: 'create', table }, () => createMany(session, table, all, options)),
    updateMany: (table: string, keys: readonly Key[], values: Values, options?: BulkOptions) =>
      told(session, { method: 'updateMany', action: 'update', table, key: keys }, () =>
        changeMany(session, table, 'update', keys, values, options),
      ),
    actMany: async (
      table: string,
      action: Action,
      keys: readonly Key[],
      values: Values = {},
      options?: BulkOptions,
    ) => {
      assertOwnAction(rulebook, table, action)
      return told(session, { method: 'actMany', action, table, key: keys }, () =>
        changeMany(session, table, action, keys, values, options),
      )
    },
    deleteMany: (table: string, keys: readonly Key[], options?: BulkOptions) =>
      told(session, { method: 'deleteMany', action: 'delete', table, key: keys }, () =>
        deleteMany(session, table, keys, options),
      ),
    transaction: <T>(work: (inside: unknown) => Promise<T>): Promise<T> =>
      atomically(session, (inside) => work(scopedStore(inside))),
    plan: async (table: string, options: GivenOptions = {}) => {
      announce(session, { method: 'plan', action: 'list', table })
      await gotReady(session)
      return explain(session, table, options)
    },
    /** What a list is going to look at, all decided; nothing where it is empty without asking the database. */
    basis: (table: string, options: GivenOptions = {}) => basis(session, table, options),
    filter: (table: string, action: 'read' | 'list' | 'get', options?: FilterOptions) => {
      announce(session, { method: 'filter', action: 'list', table })
      return filter(session, table, action, options)
    },
    view: (table: string, options?: FilterOptions) => {
      announce(session, { method: 'view', action: 'list', table })
      return view(session, table, options)
    },
    decided: async (table: string, action: 'read' | 'list' | 'get') => {
      announce(session, { method: 'decided', action: 'list', table })
      await gotReady(session)
      return decided(session, table, action)
    },
    hasRole: async (role: string) => {
      await gotReady(session)
      return hasRole(session, role)
    },
    roles: async () => {
      await gotReady(session)
      return rolesNow(session)
    },
    verdict: async (table: string, action: Action, key: Key, values?: Values) => {
      announce(session, { method: 'verdict', action, table, key })
      await gotReady(session)
      return judge(session, table, action, key, values)
    },
  }
}

function assertOwnAction(rulebook: Rulebook, table: string, action: Action): void {
  tableOf(rulebook.model, table)
  const { actions } = rulesOf(rulebook, table)
  if (!actions.includes(action)) throw new UnknownNameError('action of its own', action, actions, table)
}
