import type { SqlStore } from 'pachter/sql'
import {
  all,
  choice,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  list,
  not,
  references,
  type Rules,
  text,
  timestamp,
} from 'pachter'
import { refusalOf } from './korenveld.js'

export const model = defineModel({
  members: {
    id: integer().key().generated(),
    email: text().unique(),
    salary: integer().optional(),
    code: text().optional(),
    duties: list(text()),
  },
  entries: {
    id: integer().key(),
    authorId: references('members').optional(),
    title: text(),
    secret: text().optional(),
    status: choice('open', 'done'),
    createdAt: timestamp(),
    tags: list(text()),
  },
  notes: { id: integer().key().generated(), entryId: references('entries'), rank: integer(), body: text() },
})
export const caller = defineCaller(
  { id: integer() },
  { roles: ['chair', 'clerk'], record: { table: 'members', roles: 'duties' } },
)
export const AT = new Date('2026-11-25T09:00:00.000Z')

export const rules = defineRules(model, caller, {
  members: ({ row, caller, changed, role, signedIn, table }) =>
    table
      .ties({ self: row.id.is(caller.id), knows: row.code.is('open sesame') })
      .grants({
        read: [{ to: 'self', fields: ['email', 'duties'] }, role('chair')],
        create: [{ to: signedIn, fields: ['email', 'duties'] }],
        update: [{ to: 'self', fields: ['email', 'salary'] }, 'knows', role('chair')],
        delete: ['self', role('chair')],
      })
      .denies({
        raised: { on: 'update', when: changed('salary'), except: role('chair'), message: 'Nobody raises themselves.' },
        paid: { on: 'delete', when: row.salary.isSet(), except: role('chair'), message: 'Who is paid stays.' },
      }),
  entries: ({ row, caller, old, role, signedIn, table, changed }) =>
    table
      .ties({ author: row.authorId.is(caller.id) })
      .grants({
        read: [
          'author',
          role('chair'),
          { to: signedIn, when: row.status.is('open'), fields: ['title', 'status', 'createdAt', 'tags'] },
        ],
        create: ['author', role('chair')],
        update: ['author', role('chair')],
        delete: ['author', role('chair')],
      })
      .denies({
        done: {
          on: ['update', 'delete'],
          when: row.status.is('done'),
          except: role('chair'),
          message: 'Done is done.',
        },
      })
      .checks(
        {},
        {
          kept: {
            that: not(all(changed('secret'), old.secret.isSet())),
            message: 'stays as it is',
            fields: ['secret'],
          },
        },
      ),
  notes: ({ row, role, signedIn, table }) =>
    table.ties({ readable: row.entry.may('read'), high: row.rank.above(100) }).grants({
      read: [{ to: 'readable', fields: ['entryId', 'body'] }, 'high', role('chair')],
      create: [signedIn],
      update: [role('chair')],
      delete: [role('chair'), signedIn],
    }),
})

export const data = {
  members: [
    { id: 1, email: 'ana', salary: 100, code: null, duties: [] },
    { id: 2, email: 'ben', salary: null, code: null, duties: [] },
    { id: 3, email: 'eva', salary: 300, code: null, duties: ['chair'] },
  ],
  entries: [
    { id: 1, authorId: 1, title: 'Leeks', secret: 'under the pot', status: 'open', createdAt: AT, tags: ['a'] },
    { id: 2, authorId: 3, title: 'Kale', secret: 'b', status: 'open', createdAt: AT, tags: [] },
    { id: 3, authorId: 3, title: 'Chard', secret: 'a', status: 'done', createdAt: AT, tags: [] },
    { id: 4, authorId: 3, title: 'Beans', secret: 'a', status: 'open', createdAt: AT, tags: ['x'] },
  ],
  notes: [
    { id: 1, entryId: 2, rank: 2, body: 'second' },
    { id: 2, entryId: 2, rank: 1, body: 'first' },
  ],
}

export type AnyStore = Record<string, (...given: unknown[]) => Promise<unknown>>
export const [ana, ben, eva] = [{ id: 1 }, { id: 2 }, { id: 3 }]
export const on = (store: SqlStore, as: object, of: object = rules): AnyStore =>
  createGuard({ rules: of as Rules<never, never>, store, onDecision: () => undefined }).as(
    as as never,
  ) as unknown as AnyStore
/** All that an error says, to whoever gets hold of it, but for what it is told about. */
export const said = async (promise: Promise<unknown>) => {
  const error = await refusalOf(promise)
  return { text: String(error), json: JSON.stringify(error), status: error.status }
}
export const Given = (json: string): unknown => JSON.parse(json) as unknown
