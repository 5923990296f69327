import {
  all,
  boolean,
  choice,
  defineCaller,
  defineModel,
  defineRules,
  list,
  not,
  references,
  text,
  timestamp,
} from 'pachter'

export const model = defineModel({
  members: { id: text().key(), name: text(), email: text(), duties: list(text()), joinedAt: timestamp() },
  sites: { id: text().key(), name: text(), wardenId: references('members') },
  plots: { id: text().key(), siteId: references('sites'), number: text(), holderId: references('members').optional() },
  tasks: {
    id: text().key(),
    plotId: references('plots'),
    reporterId: references('members'),
    assigneeId: references('members').optional(),
    title: text(),
    state: choice('open', 'doing', 'done'),
    audience: choice('private', 'site', 'public'),
    budget: text().optional(),
    createdAt: timestamp(),
    deletedAt: timestamp().optional(),
  },
  taskHelpers: { taskId: references('tasks').key(), memberId: references('members').key() },
  notes: { id: text().key(), taskId: references('tasks'), authorId: references('members'), body: text() },
  documents: { id: text().key(), siteId: references('sites'), name: text(), isPublic: boolean() },
  documentShares: { documentId: references('documents').key(), memberId: references('members').key() },
})

const caller = defineCaller(
  { id: text() },
  { roles: ['warden', 'treasurer', 'secretary'], record: { table: 'members', roles: 'duties' } },
)

export const rules = defineRules(model, caller, {
  members: ({ row, caller, role, signedIn, table }) =>
    table.ties({ self: row.id.is(caller.id) }).grants({
      read: [{ to: signedIn, fields: ['name'] }, 'self', role('secretary')],
      update: [{ to: 'self', fields: ['name', 'email'] }],
      delete: [role('secretary')],
    }),
  sites: ({ anyone, table }) => table.grants({ read: [anyone] }),
  plots: ({ row, caller, anyone, role, table }) =>
    table.ties({ holder: row.holderId.is(caller.id) }).grants({
      read: [{ to: anyone, fields: ['siteId', 'number'] }, 'holder', role('secretary')],
      update: [{ to: role('secretary'), fields: ['holderId'] }],
    }),
  tasks: ({ row, caller, role, now, table }) =>
    table
      .ties({
        reporter: row.reporterId.is(caller.id),
        assignee: row.assigneeId.is(caller.id),
        helper: row.taskHelpers.some((help) => help.memberId.is(caller.id)),
        plotHolder: row.plot.holderId.is(caller.id),
        siteWarden: row.plot.site.wardenId.is(caller.id),
        public: all(row.audience.is('public'), not(row.state.is('done'))),
      })
      .actions('finish')
      .grants({
        read: [
          'reporter',
          'siteWarden',
          {
            to: ['assignee', 'helper', 'plotHolder', 'public'],
            fields: ['plotId', 'title', 'state', 'assigneeId', 'createdAt'],
          },
          role('treasurer'),
        ],
        create: [{ to: 'reporter', fields: ['plotId', 'title', 'audience', 'assigneeId', 'budget'] }],
        update: [
          { to: ['reporter', 'siteWarden'], fields: ['title', 'audience', 'assigneeId', 'state'] },
          { to: 'assignee', fields: ['state'] },
        ],
        delete: ['siteWarden'],
        finish: ['assignee', 'siteWarden'],
      })
      .denies({
        gone: {
          on: ['read', 'update', 'delete', 'finish'],
          when: row.deletedAt.isSet(),
          message: 'This task is gone.',
        },
      })
      .stamps({ create: { reporterId: caller.id, createdAt: now, state: 'open' }, finish: { state: 'done' } })
      .conflicts('told'),
  taskHelpers: ({ row, caller, table }) =>
    table.ties({ self: row.memberId.is(caller.id), reporter: row.task.reporterId.is(caller.id) }).grants({
      read: ['self', 'reporter'],
      create: ['reporter'],
      delete: ['self', 'reporter'],
    }),
  notes: ({ row, caller, table }) =>
    table
      .ties({ author: row.authorId.is(caller.id), onSeenTask: row.task.may('read') })
      .grants({
        read: ['author', 'onSeenTask'],
        create: [{ to: 'author', when: row.task.may('read') }],
        delete: ['author'],
      })
      .stamps({ create: { authorId: caller.id } }),
  documents: ({ row, caller, role, table }) =>
    table
      .ties({
        shared: row.documentShares.some((share) => share.memberId.is(caller.id)),
        open: row.isPublic.is(true),
      })
      .grants({ read: ['shared', 'open', role('secretary')] }),
  documentShares: ({ row, caller, role, table }) =>
    table.ties({ self: row.memberId.is(caller.id) }).grants({ read: ['self', role('secretary')] }),
})
