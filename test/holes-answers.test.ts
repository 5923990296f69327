// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import { createGuard, decide, defineCaller, defineModel, defineRules, integer, text, trusted } from 'pachter'
import { model, caller, AT, rules, data, ana, eva, on, said } from './support/allotted.js'
import { each, onEach } from './support/holes.js'

describe('an audit found wrong answers', () => {
  each('(36) what must not change is not changed', async ({ store }) => {
    expect(await said(on(store, ana)['update']?.('entries', 1, { secret: 'other' }) as never)).to.include({
      status: 422,
    })
    expect(await on(store, ana)['update']?.('entries', 1, { secret: 'under the pot', title: 'x' })).to.include({
      title: 'x',
    })
    const verdict = decide(rules, {
      caller: ana,
      action: 'update',
      table: 'entries',
      record: data.entries[0] as never,
      values: { secret: 'other' },
      data,
    })
    expect(verdict.status).to.equal(422)
  })

  each('(38) what a write returns is what is so afterwards', async ({ store, raw }) => {
    const given = (await on(store, eva)['update']?.('members', 3, { duties: [] })) as object
    expect(given).to.deep.equal({ id: 3, email: 'eva', duties: [] })
    await raw('DELETE FROM notes')
  })

  each('(39) moments are stored as they are, whatever the zone of the process', async ({ store }) => {
    const zone = process.env['TZ']
    process.env['TZ'] = 'Africa/Monrovia'
    try {
      const at = new Date('1971-06-01T12:00:00.000Z')
      await on(store, eva)['update']?.('entries', 2, { createdAt: at })
      expect(await on(store, eva)['get']?.('entries', 2)).to.deep.include({ createdAt: at })
      expect(
        await on(store, eva)['count']?.('entries', {
          where: (row: never) => (row as { createdAt: { is(at: Date): unknown } }).createdAt.is(at),
        }),
      ).to.equal(1)
    } finally {
      if (zone === undefined) delete process.env['TZ']
      else process.env['TZ'] = zone
    }
  })

  each('(41) pages by long texts lose nothing', async ({ store }) => {
    const as = on(store, trusted('test'))
    for (const id of [11, 12, 13, 14])
      await as['create']?.('entries', {
        id,
        authorId: 3,
        title: `${'x'.repeat(1_500)}${15 - id}`,
        secret: null,
        status: 'open',
        createdAt: AT,
        tags: [],
      })
    const paged: number[] = []
    for await (const { id } of createGuard({ rules, store }).as(eva).stream('entries', { orderBy: 'title', batch: 1 }))
      paged.push(id)
    expect([...paged].sort((one, two) => one - two)).to.deep.equal([1, 2, 3, 4, 11, 12, 13, 14])
  })

  each('(42) pages by offset repeat nothing, in any form', async ({ store }) => {
    const as = on(store, trusted('test'))
    for (let id = 20; id < 40; id += 1) {
      await as['create']?.('entries', { id, title: `t${id % 7}`, status: 'open', createdAt: AT, tags: ['a', 'b'] })
      for (let note = 0; note < id % 4; note += 1)
        await as['create']?.('notes', { id: id * 10 + note, entryId: id, rank: note, body: 'seen' })
    }
    const grants = (build: (row: never) => object) =>
      defineRules(model, caller, {
        entries: ({ row, table }) => table.ties({ tie: build(row as never) as never }).grants({ read: ['tie'] }),
      })
    type Entry = { notes: { some(where: (note: { body: { is(text: string): object } }) => object): object } }
    const noted = grants((row: Entry) => row.notes.some((note) => note.body.is('seen')))
    const tagged = grants((row: { tags: { includesAny(tags: string[]): object } }) => row.tags.includesAny(['a', 'b']))
    for (const rules of [noted, tagged]) {
      for (const form of ['walk', 'scan', 'gather']) {
        for (const orderBy of ['id descending', 'title']) {
          const list = async (page: object) =>
            ((await on(store, ana, rules)['list']?.('entries', { form, orderBy, ...page })) as { id: number }[]).map(
              ({ id }) => id,
            )
          const whole = await list({})
          const pages: number[] = []
          for (let offset = 0; offset < whole.length; offset += 7) pages.push(...(await list({ limit: 7, offset })))
          expect(pages, `${form} ${orderBy}`).to.deep.equal(whole)
        }
      }
    }
  })

  it('(43) a record of which nothing is given is stored', () => {
    const counted = defineModel({ tickets: { id: integer().key().generated(), note: text().optional() } })
    const open = defineRules(counted, defineCaller({ id: integer() }), {
      tickets: ({ anyone, table }) => table.grants({ read: [anyone], create: [anyone] }),
    })
    return onEach(counted, {}, async ({ store }) => {
      const as = createGuard({ rules: open, store }).as(ana)
      expect([(await as.create('tickets', {})).id, (await as.create('tickets', {})).id]).to.deep.equal([1, 2])
      expect(await as.list('tickets')).to.deep.equal([1, 2].map((id) => ({ id, note: null })))
    })
  })
})
