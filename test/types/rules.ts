// Compiled by types.test.ts: each marked line must be an error for the compiler, and no other line may be.
import {
  all,
  createGuard,
  defineCaller,
  defineModel,
  defineRules,
  boolean,
  choice,
  integer,
  references,
  text,
  type Model,
} from 'pachter'
import type { SqlStore } from 'pachter/sql'

const model = defineModel({
  members: { id: integer().key(), name: text() },
  plots: {
    id: integer().key(),
    holderId: references('members').optional(),
    fallow: boolean(),
    state: choice('free', 'held'),
  },
  plotKeepers: { plotId: references('plots').key(), memberId: references('members').key() },
})
const caller = defineCaller({ id: integer(), email: text().optional() }, { roles: ['warden'] })

export const rules = defineRules(model, caller, {
  plots: ({ row, caller, role, table }) => {
    row.fallow.is(true)
    // @ts-expect-error a boolean is never text
    row.fallow.is('true')
    // @ts-expect-error there is no such field
    row.holder_id.is(caller.id)
    // @ts-expect-error there is no such choice
    row.state.is('sold')
    // @ts-expect-error an id is no e-mail
    row.holderId.is(caller.email)
    // @ts-expect-error callers have no such attribute
    row.holderId.is(caller.name)
    // @ts-expect-error members have no such field
    row.holder.email.is(caller.email)
    // @ts-expect-error there is no such role
    role('chief')
    const withTies = table.ties({
      holder: row.holderId.is(caller.id),
      keeper: row.plotKeepers.some((keeper) => keeper.memberId.is(caller.id)),
    })
    // @ts-expect-error there is no such tie
    withTies.grants({ read: ['owner'] })
    // @ts-expect-error there is no such field to grant
    withTies.grants({ update: [{ to: 'holder', fields: ['stat'] }] })
    // @ts-expect-error there is no such action
    withTies.grants({ upate: ['holder'] })
    // @ts-expect-error a stamp has the type of its field
    withTies.stamps({ create: { state: 'sold' } })
    return withTies.grants({ read: ['holder', 'keeper', role('warden')] })
  },
})

// @ts-expect-error there is no such table to refer to
defineModel({ plots: { id: integer().key(), holderId: references('members') } })

// @ts-expect-error there is no such table
defineRules(model, caller, { plot: ({ table }) => table })

export async function use(store: SqlStore): Promise<void> {
  const guard = createGuard({ rules, store })
  // @ts-expect-error an id is a number
  guard.as({ id: '1' })
  // @ts-expect-error there is no such role
  guard.as({ id: 1, roles: ['chief'] })
  const scoped = guard.as({ id: 1, roles: ['warden'] })
  const [plot] = await scoped.list('plots')
  const id: number = plot?.id ?? 0
  // @ts-expect-error any field but the key may be hidden
  const state: string = plot?.state
  // @ts-expect-error without asking there is no $access
  void plot?.$access
  void (await scoped.list('plots', { access: true }))[0]?.$access.changeable
  // @ts-expect-error there is no such table
  await scoped.list('plot')
  // @ts-expect-error there is no such field
  await scoped.update('plots', 1, { stat: 'free' })
  // @ts-expect-error a field has its type
  await scoped.update('plots', 1, { fallow: 'true' })
  // @ts-expect-error a composite key has all its parts
  await scoped.delete('plotKeepers', { plotId: 1 })
  await scoped.delete('plotKeepers', { plotId: id, memberId: 2 })
  void state
  const [kept] = await scoped.list('plots', {
    where: (row) => row.fallow.is(true),
    orderBy: ['state descending', 'id'],
    fields: ['state'],
    with: { holder: true, plotKeepers: { fields: ['memberId'], with: { member: true } } },
  })
  void [kept?.state, kept?.holder?.name, kept?.plotKeepers[0]?.member?.name]
  // @ts-expect-error it was not among the fields asked for
  void kept?.fallow
  // @ts-expect-error nor was this relation
  void kept?.members
  // @ts-expect-error a text is no boolean here either
  await scoped.list('plots', { where: (row) => row.fallow.is('true') })
  // @ts-expect-error there is no such field to sort by
  await scoped.list('plots', { orderBy: 'stat' })
  // @ts-expect-error there is no such relation
  await scoped.list('plots', { with: { owner: true } })
  // @ts-expect-error there is no such option
  await scoped.list('plots', { order: 'state' })
  const bulk = await scoped.updateMany('plots', [1], { state: 'free' }, { partly: true })
  void [bulk.written[0]?.id, bulk.refused[0]?.message]
  // @ts-expect-error only a part that is wanted is reported apart
  void (await scoped.updateMany('plots', [1], { state: 'free' })).written
}

export const anyModel: Model = model

const wide = defineCaller(
  { id: integer() },
  { roles: ['warden', 'chief'], standings: { judge: ['chief'] }, channels: ['script'], implies: { chief: ['warden'] } },
)
defineRules(model, wide, {
  plots: ({ row, old, changed, standing, channel, role, table }) => {
    // @ts-expect-error there is no such standing
    standing('jugde')
    // @ts-expect-error there is no such channel
    channel('phone')
    // @ts-expect-error there is no such field to change
    changed('stat')
    // @ts-expect-error old values have their types too
    old.state.is('sold')
    // @ts-expect-error a condition on the record is no condition on the caller
    table.grants({ read: [row.fallow.is(true)] })
    // @ts-expect-error a range has the type of its field, and text has none
    table.checks({ state: { range: [1, 2] } })
    const own = table.actions('lease')
    // @ts-expect-error there is no such action
    own.grants({ leaze: [role('chief')] })
    return own.grants({ lease: [all(role('warden'), channel('script'))] })
  },
})
export async function act(store: SqlStore): Promise<void> {
  const rules = defineRules(model, caller, {
    plots: ({ signedIn, table }) => table.actions('lease', 'return').grants({ lease: [signedIn] }),
    members: ({ signedIn, table }) => table.grants({ read: [signedIn] }),
  })
  const scoped = createGuard({ rules, store }).as({ id: 1 })
  await scoped.act('plots', 'lease', 1)
  // @ts-expect-error there is no such action
  await scoped.act('plots', 'remov', 1)
  // @ts-expect-error members have no actions of their own
  await scoped.act('members', 'lease', 1)
  // @ts-expect-error nor can many of them be asked for
  await scoped.actMany('plots', 'delete', [1])
  await scoped.verdict('plots', 'return', 1)
  // @ts-expect-error nor is there a verdict on it
  await scoped.verdict('plots', 'remov', 1)
}
// @ts-expect-error only roles there are can be implied
defineCaller({ id: integer() }, { roles: ['warden'], implies: { chief: ['warden'] } })
