import { all, any, defineCaller, defineRules, integer, not } from 'pachter'
import { model } from './model.js'

/** Who asks: a member's id. Duties count from the member's own record, and from the session they signed in with. */
export const caller = defineCaller(
  { id: integer() },
  {
    roles: ['treasurer', 'secretary', 'auditor'],
    implies: { treasurer: ['auditor'] },
    standings: { seeMoney: ['treasurer', 'auditor'] },
    channels: ['web', 'script'],
    record: { table: 'members', roles: 'duties' },
  },
)

/** Who may do what at Korenveld. */
export const rules = defineRules(model, caller, {
  members: ({ row, caller, role, signedIn, now, table }) =>
    table
      .ties({ self: row.id.is(caller.id) })
      .grants({
        read: ['self', role('secretary'), { to: signedIn, fields: ['name', 'joinedAt'] }],
        create: [{ to: role('secretary'), fields: ['name', 'email', 'phone', 'duties'] }],
        update: [
          { to: ['self', role('secretary')], fields: ['name', 'phone'] },
          // Members sign in by it: whoever could set it could be somebody else.
          { to: role('secretary'), fields: ['email'] },
          // Nobody hands out duties to themselves, the secretary neither.
          { to: role('secretary'), fields: ['duties'], when: row.id.isNot(caller.id) },
        ],
        delete: ['self', role('secretary')],
      })
      .stamps({ create: { joinedAt: now } })
      .checks({ name: { length: [1, 80] }, email: { pattern: /^[^@\s]+@[^@\s]+$/ } }),

  sites: ({ anyone, role, table }) => table.grants({ read: [anyone], update: [role('secretary')] }),

  siteWardens: ({ role, signedIn, table }) =>
    table.grants({
      list: [signedIn],
      get: [role('secretary')],
      create: [role('secretary')],
      delete: [{ asFor: 'create' }],
    }),

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
        delete: [{ asFor: 'create' }],
      })
      .checks({ areaM2: { range: [1, 500] } }),

  applications: ({ row, caller, role, signedIn, now, table }) =>
    table
      .ties({ applicant: row.applicantId.is(caller.id) })
      .actions('approve', 'decline')
      .grants({
        read: [
          'applicant',
          role('secretary'),
          { to: signedIn, when: row.status.is('approved'), fields: ['applicantId', 'siteId', 'status'] },
        ],
        create: [{ to: 'applicant', fields: ['siteId', 'motivation'] }],
        update: [{ to: 'applicant', fields: ['motivation'] }],
        delete: ['applicant'],
        approve: [role('secretary')],
        decline: [role('secretary')],
      })
      .denies({
        decided: {
          on: ['update', 'delete', 'approve', 'decline'],
          when: not(row.status.is('waiting')),
          message: 'This application has been decided.',
        },
      })
      .stamps({
        create: { applicantId: caller.id, status: 'waiting', appliedAt: now },
        approve: { status: 'approved' },
        decline: { status: 'declined' },
      })
      .checks({ motivation: { length: [10, 2000] } }),

  entries: ({ row, caller, role, signedIn, now, changed, table }) =>
    table
      .ties({
        author: row.authorId.is(caller.id),
        reader: row.entryShares.some((share) =>
          all(share.memberId.is(caller.id), any(share.until.isMissing(), share.until.above(now))),
        ),
        coAuthor: row.entryShares.some((share) =>
          all(
            share.memberId.is(caller.id),
            share.level.is('edit'),
            any(share.until.isMissing(), share.until.above(now)),
          ),
        ),
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
      .denies({
        published: {
          on: 'update',
          when: all(row.audience.is('public'), changed('audience')),
          message: 'What is public stays public.',
        },
      })
      .stamps({ create: { authorId: caller.id, createdAt: now }, update: { updatedAt: now } })
      .checks({ title: { length: [1, 80] } }),

  entryShares: ({ row, caller, table }) =>
    table.ties({ entryAuthor: row.entry.authorId.is(caller.id), sharedWith: row.memberId.is(caller.id) }).grants({
      read: ['entryAuthor', 'sharedWith'],
      create: ['entryAuthor'],
      update: [{ to: 'entryAuthor', fields: ['level', 'until'] }],
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
        update: [{ to: 'author', fields: ['body'], when: row.createdAt.above(now.minus({ minutes: 15 })) }],
        delete: ['author', 'entryAuthor'],
      })
      .stamps({ create: { authorId: caller.id, createdAt: now } }),

  jobs: ({ row, old, caller, table }) =>
    table
      .ties({
        assignee: row.assigneeId.is(caller.id),
        helper: row.jobHelpers.some((helper) => helper.memberId.is(caller.id)),
        reporter: row.reporterId.is(caller.id),
        siteWarden: row.site.siteWardens.some((warden) => warden.memberId.is(caller.id)),
        watcher: row.watcherIds.includes(caller.id),
        onDuty: row.forDuties.includesAny(caller.roles),
      })
      .grants({
        read: ['assignee', 'helper', 'reporter', 'siteWarden', 'watcher', 'onDuty'],
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
      .stamps({ create: { reporterId: caller.id, status: 'open' } })
      .checks(
        { title: { length: [1, 80] }, dueAt: { onCreate: 'required' }, siteId: { onUpdate: 'forbidden' } },
        {
          forward: {
            that: not(all(old.status.is('busy'), row.status.is('open'))),
            message: 'does not go back to open once the job was begun',
            fields: ['status'],
          },
        },
      ),

  jobHelpers: ({ row, caller, table }) =>
    table
      .ties({
        helper: row.memberId.is(caller.id),
        jobReader: row.job.may('read'),
        siteWarden: row.job.site.siteWardens.some((warden) => warden.memberId.is(caller.id)),
      })
      .grants({ read: ['jobReader'], create: ['siteWarden'], delete: ['siteWarden', 'helper'] }),

  rents: ({ row, caller, standing, role, channel, now, table }) =>
    table
      .ties({ tenant: row.memberId.is(caller.id) })
      .actions('settle', 'reopen')
      .grants({
        read: ['tenant', standing('seeMoney'), role('secretary')],
        create: [role('treasurer')],
        update: [{ to: role('treasurer'), fields: ['amountCents'] }],
        delete: [role('secretary', 'treasurer')],
        settle: [{ to: role('treasurer'), when: row.paidAt.isMissing() }],
        // Booked back only by the script that reads the bank statements, run by the treasurer.
        reopen: [{ to: all(role('treasurer'), channel('script')), fields: ['paidAt'] }],
      })
      .denies({
        owed: { on: 'delete', when: row.memberId.is(caller.id), message: 'Nobody deletes what they owe.' },
        paid: {
          on: 'delete',
          when: row.paidAt.isSet(),
          except: role('treasurer'),
          message: 'A paid rent cannot be deleted, except by the treasurer.',
        },
      })
      .stamps({ settle: { paidAt: now } })
      .checks(
        { amountCents: { range: [0, 1_000_000] }, year: { range: [2000, 2100] } },
        {
          afterward: {
            that: any(row.paidAt.isMissing(), row.paidAt.atMost(now)),
            message: 'cannot lie in the future',
            fields: ['paidAt'],
          },
        },
      ),
})
