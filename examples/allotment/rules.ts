import { all, any, defineCaller, defineRules, integer } from 'pachter'
import { model } from './model.js'

/** Who asks: a member's id, and the duties the association gave them. */
export const caller = defineCaller({ id: integer() }, { roles: ['treasurer', 'secretary'] })

/**
 * Who may do what at Korenveld. Applications have no rules yet and are closed to everyone.
 */
export const rules = defineRules(model, caller, {
  members: ({ row, caller, role, signedIn, now, table }) =>
    table
      .ties({ self: row.id.is(caller.id) })
      .grants({
        read: ['self', role('secretary'), { to: signedIn, fields: ['name', 'joinedAt'] }],
        create: [{ to: role('secretary'), fields: ['name', 'email', 'phone', 'duties'] }],
        update: [
          { to: ['self', role('secretary')], fields: ['name', 'email', 'phone'] },
          // Nobody hands out duties to themselves, the secretary neither.
          { to: role('secretary'), fields: ['duties'], when: row.id.isNot(caller.id) },
        ],
        delete: ['self', role('secretary')],
      })
      .stamps({ create: { joinedAt: now } }),

  sites: ({ anyone, role, table }) => table.grants({ read: [anyone], update: [role('secretary')] }),

  siteWardens: ({ role, signedIn, table }) =>
    table.grants({ read: [signedIn], create: [role('secretary')], delete: [role('secretary')] }),

  plots: ({ row, caller, anyone, role, table }) =>
    table
      .ties({
        holder: row.holderId.is(caller.id),
        siteWarden: row.site.siteWardens.some((warden) => warden.memberId.is(caller.id)),
      })
      .grants({
        read: [
          'holder',
          'siteWarden',
          role('secretary'),
          { to: anyone, fields: ['siteId', 'number', 'areaM2', 'crop'] },
        ],
        create: [role('secretary')],
        update: [
          { to: 'holder', fields: ['crop', 'notes'] },
          { to: ['siteWarden', role('secretary')], fields: ['areaM2', 'holderId'] },
        ],
        delete: [role('secretary')],
      }),

  entries: ({ row, caller, role, signedIn, now, table }) =>
    table
      .ties({
        author: row.authorId.is(caller.id),
        reader: row.entryShares.some((share) => share.memberId.is(caller.id)),
        coAuthor: row.entryShares.some((share) => all(share.memberId.is(caller.id), share.level.is('edit'))),
        plotHolder: row.plot.holderId.is(caller.id),
        everyone: row.audience.is('public'),
      })
      .grants({
        read: ['author', 'reader', 'plotHolder', 'everyone', { to: signedIn, when: row.audience.is('members') }],
        create: [{ to: 'author', fields: ['plotId', 'audience', 'title', 'body'] }],
        update: [
          { to: ['author', 'coAuthor'], fields: ['title', 'body'] },
          { to: 'author', fields: ['audience'] },
        ],
        delete: ['author', role('secretary')],
      })
      .stamps({ create: { authorId: caller.id, createdAt: now }, update: { updatedAt: now } }),

  entryShares: ({ row, caller, table }) =>
    table.ties({ entryAuthor: row.entry.authorId.is(caller.id), sharedWith: row.memberId.is(caller.id) }).grants({
      read: ['entryAuthor', 'sharedWith'],
      create: ['entryAuthor'],
      update: [{ to: 'entryAuthor', fields: ['level'] }],
      delete: ['entryAuthor', 'sharedWith'],
    }),

  remarks: ({ row, caller, now, table }) =>
    table
      .ties({
        author: row.authorId.is(caller.id),
        entryAuthor: row.entry.authorId.is(caller.id),
        entryReader: row.entry.may('read'),
      })
      .grants({
        read: ['entryReader'],
        create: [
          {
            to: 'author',
            fields: ['entryId', 'replyToId', 'body'],
            // A reply stays under the entry of the remark it answers.
            when: all(row.entry.may('read'), any(row.replyToId.isMissing(), row.replyTo.entryId.is(row.entryId))),
          },
        ],
        update: [{ to: 'author', fields: ['body'] }],
        delete: ['author', 'entryAuthor'],
      })
      .stamps({ create: { authorId: caller.id, createdAt: now } }),

  jobs: ({ row, caller, table }) =>
    table
      .ties({
        assignee: row.assigneeId.is(caller.id),
        helper: row.jobHelpers.some((helper) => helper.memberId.is(caller.id)),
        reporter: row.reporterId.is(caller.id),
        siteWarden: row.site.siteWardens.some((warden) => warden.memberId.is(caller.id)),
      })
      .grants({
        read: ['assignee', 'helper', 'reporter', 'siteWarden'],
        create: [
          { to: 'reporter', fields: ['siteId', 'title', 'details', 'dueAt'] },
          { to: 'siteWarden', fields: ['siteId', 'title', 'details', 'dueAt', 'assigneeId'] },
        ],
        update: [
          { to: ['assignee', 'helper'], fields: ['details', 'status'] },
          { to: 'reporter', fields: ['title', 'details', 'dueAt'] },
          { to: 'siteWarden', fields: ['title', 'details', 'dueAt', 'assigneeId', 'status'] },
        ],
        delete: ['reporter', 'siteWarden'],
      })
      .denies({
        finished: {
          on: ['update', 'delete'],
          when: row.status.is('done'),
          message: 'A finished job cannot be changed or deleted.',
        },
      })
      .stamps({ create: { reporterId: caller.id, status: 'open' } }),

  jobHelpers: ({ row, caller, table }) =>
    table
      .ties({
        helper: row.memberId.is(caller.id),
        jobReader: row.job.may('read'),
        siteWarden: row.job.site.siteWardens.some((warden) => warden.memberId.is(caller.id)),
      })
      .grants({ read: ['jobReader'], create: ['siteWarden'], delete: ['siteWarden', 'helper'] }),

  rents: ({ row, caller, role, table }) =>
    table
      .ties({ tenant: row.memberId.is(caller.id) })
      .grants({
        read: ['tenant', role('treasurer')],
        create: [role('treasurer')],
        update: [{ to: role('treasurer'), fields: ['amountCents', 'paidAt'] }],
        delete: ['tenant', role('treasurer')],
      })
      .denies({
        paid: {
          on: 'delete',
          when: row.paidAt.isSet(),
          except: role('treasurer'),
          message: 'A paid rent cannot be deleted, except by the treasurer.',
        },
      }),
})
