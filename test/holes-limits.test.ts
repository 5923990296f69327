// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import {
  all,
  any,
  createGuard,
  decide,
  decimal,
  defineCaller,
  defineModel,
  defineRules,
  InputError,
  integer,
  list,
  LimitError,
  LIMITS,
  ModelError,
  references,
  RuleError,
  text,
  trusted,
  UnknownNameError,
} from 'pachter'
import { after } from 'pachter/condition'
import { checkRulebook } from 'pachter/rules'
import { openExpectations, openWorkbench, runFile } from 'pachter/check'
import { sqlite, sqlStore } from 'pachter/sql'
import { model, caller, rules, data, ana, eva, on } from './support/allotted.js'
import { each, type Opened } from './support/holes.js'
import { refusalOf } from './support/korenveld.js'

describe('an audit found taken down', () => {
  it('(24) rules that refer to rules are worked out once, and have a size', () => {
    const chain = (length: number, twice: boolean) => {
      const names = Array.from({ length }, (_, at) => `t${at}`)
      const tables = defineModel(
        Object.fromEntries(
          names.map((name, at) => [
            name,
            { id: integer().key(), mark: integer(), ...(at > 0 && { upId: references(`t${at - 1}`) }) },
          ]),
        ) as never,
      )
      return () =>
        defineRules(
          tables as never,
          defineCaller({ id: integer() }) as never,
          Object.fromEntries(
            names.map((name, at) => [
              name,
              ({ row, table, anyone }: never) => {
                const { mark } = row as { mark: { is(value: number): never } }
                const may = () => (row as { up: { may(action: string): never } }).up.may('read')
                return (table as { ties(ties: object): { grants(grants: object): never } })
                  .ties(
                    at === 0
                      ? {}
                      : {
                          up: twice ? any(all(may(), mark.is(1)), all(may(), mark.is(2))) : may(),
                        },
                  )
                  .grants({ read: [at === 0 ? anyone : 'up'] })
              },
            ]),
          ) as never,
        )
    }
    const start = process.cpuUsage().user
    expect(chain(18, true)).to.throw(RuleError, /more than .* parts/)
    expect(chain(40, false)).not.to.throw()
    expect((process.cpuUsage().user - start) / 1e6).to.be.below(20)
  })

  /** What is answered with before anything is sent. */
  const unsent = async ({ sent }: Opened, call: unknown) => {
    const before = sent.length
    const refusal = await refusalOf(call as never)
    expect(sent.slice(before).filter((each) => !/pg_attribute|information_schema/.test(each))).to.deep.equal([])
    return refusal
  }

  each('(25) a list of values has an end, named before anything runs', async (opened) => {
    const priced = defineModel({ goods: { id: integer().key(), price: decimal(2), weight: integer().optional() } })
    const open = defineRules(priced, defineCaller({ id: integer() }), {
      goods: ({ anyone, table }) => table.grants({ read: [anyone] }),
    })
    const many = Array.from({ length: 33_000 }, (_, at) => `${at}.00` as const)
    const scoped = createGuard({ rules: open, store: opened.store }).as(ana)
    const listed = scoped.list('goods', { where: (row) => row.price.oneOf(many) })
    expect(await unsent(opened, listed)).to.be.instanceOf(LimitError)
  })

  each('(26) with, orderBy and bulk calls have an end, named before anything runs', async (opened) => {
    const as = on(opened.store, eva)
    const deep = (levels: number): object =>
      levels === 0 ? {} : { notes: { with: { entry: { with: deep(levels - 1) } } } }
    const titles = Array.from({ length: 99 }, () => 'title')
    const keys = Array.from({ length: LIMITS.bulkRecords + 1 }, (_, at) => at)
    expect(await unsent(opened, as['list']?.('entries', { with: deep(9) }))).to.be.instanceOf(LimitError)
    expect(await unsent(opened, as['list']?.('entries', { orderBy: titles }))).to.be.instanceOf(LimitError)
    expect(await unsent(opened, as['deleteMany']?.('entries', keys))).to.be.instanceOf(LimitError)
  })

  each('(28) large integers are values like others', async ({ store }) => {
    expect(() => on(store, { id: 7n })).to.throw(/id is 7n/)
    const bulk = await refusalOf(on(store, eva)['deleteMany']?.('entries', [2n]) as never)
    expect(bulk).to.be.instanceOf(InputError)
  })

  it('(27) no text makes a pattern take long', () => {
    const checked = (pattern: RegExp) =>
      defineRules(model, caller, {
        notes: ({ anyone, table }) =>
          table
            .grants({ read: [anyone], create: [anyone] })
            .conflicts('told')
            .checks({ body: { pattern } }),
      })
    const start = process.cpuUsage().user
    const values = { entryId: 1, rank: 1, body: `${'a'.repeat(9_000)}!` }
    expect(() => decide(checked(/^(a+)+$/), { caller: ana, action: 'create', table: 'notes', values, data })).to.throw(
      InputError,
      /must match/,
    )
    expect((process.cpuUsage().user - start) / 1e6).to.be.below(10)
    for (const pattern of [/(a)\1/, /(?=a)b/]) expect(() => checked(pattern)).to.throw(RuleError, /can take for ever/)
  })

  it('(29) a difference of 300,000 records is told, not fallen over', async function () {
    this.timeout(120_000)
    const store = sqlStore({
      dialect: sqlite,
      query: () => ({ rows: Array.from({ length: 300_000 }, (_, id) => ({ id })), touched: 0 }),
      transaction: () => Promise.reject(new Error('none')),
    })
    const small = defineModel({ beds: { id: integer().key() } })
    const open = defineRules(small, defineCaller({ id: integer() }), {
      beds: ({ anyone, table }) => table.grants({ read: [anyone] }),
    })
    const bench = openWorkbench({ rules: open, callers: { ana }, store })
    const { failed } = await runFile(
      await openExpectations(bench, 'callers: { ana: { beds: { sees: [1, 2] } } }', 'big.yaml'),
    )
    expect(failed).to.equal(1)
  })

  each('(30) a key of one’s own leaves room for those that follow', async ({ store }) => {
    const as = on(store, trusted('test'))
    for (const id of [2 ** 53 - 1, 0, -1])
      expect(
        await refusalOf(as['create']?.('notes', { id, entryId: 2, rank: 1, body: 'x' }) as never),
      ).to.be.instanceOf(InputError)
    expect(await as['create']?.('notes', { id: 40, entryId: 2, rank: 1, body: 'x' })).to.include({ id: 40 })
  })

  each('(31) what is done is done, whatever becomes of the log', async ({ store }) => {
    const loud = console.error
    console.error = () => undefined
    try {
      const guard = createGuard({
        rules,
        store,
        onDecision: () => {
          throw new Error('disk full')
        },
      })
      expect(await guard.as(eva).update('entries', 2, { title: 'done' })).to.include({ title: 'done' })
    } finally {
      console.error = loud
    }
  })

  each('(32) a duplicate among many is one', async ({ store }) => {
    const fresh = (email: string) => ({ email, duties: [] })
    const outcome = (await on(store, eva)['createMany']?.('members', [fresh('new'), fresh('ana'), fresh('newer')], {
      partly: true,
    })) as { written: unknown[]; refused: { key: unknown; status: number }[] }
    expect(outcome.written).to.have.length(2)
    expect(outcome.refused).to.have.length(1)
    expect(outcome.refused[0]).to.include({ key: 1 })
  })

  each('(33) no alias of a query of one’s own is ours', async ({ store }) => {
    const scoped = createGuard({ rules, store }).as(eva)
    expect(() => scoped.filter('entries', 'read', { alias: '_1' })).to.throw(InputError)
    expect(scoped.filter('entries', 'read', { alias: 'e' }).text).to.be.a('string')
  })

  it('(34) names of actions and ties are names', () => {
    const odd = (change: object) => ({
      ...rules,
      tables: { ...rules.tables, entries: { ...rules.tables['entries'], ...change } },
    })
    expect(() => checkRulebook(odd({ actions: ['do it'] }) as never)).to.throw(RuleError, /as a name/)
    expect(() => checkRulebook(odd({ ties: { '0': { kind: 'always' } } }) as never)).to.throw(RuleError, /as a name/)
  })

  each('(35) a condition asks only what there is', async ({ store }) => {
    const listed = (where: unknown) => refusalOf(on(store, eva)['list']?.('entries', { where }) as never)
    const typo = (row: { may(action: string): unknown }) => row.may('typo')
    const later = (row: { title: { is(title: string): never } }) => after(row.title.is('x'))
    expect(await listed(typo)).to.be.instanceOf(InputError)
    expect(await listed(later)).to.be.instanceOf(InputError)
    expect(() => createGuard({ rules, store }).as({ id: 1, roles: ['x'] } as never)).to.throw(UnknownNameError)
  })

  each('(46) a choice begins with a text, no key is a list, and no name is two things', async ({ store }) => {
    const count = createGuard({ rules, store })
      .as(eva)
      .count('entries', {
        where: (row) => (row.status as never as { startsWith(text: string): never }).startsWith('op'),
      })
    expect(await count).to.equal(3)
    expect(() => defineModel({ t: { id: list(text()).key() } } as never)).to.throw(ModelError, /list/)
    expect(() =>
      defineModel({
        orders: { id: integer().key(), lines: integer() },
        lines: { id: integer().key(), orderId: references('orders') },
      }),
    ).to.throw(ModelError, /would be both/)
  })
})
