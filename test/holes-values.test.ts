// By the numbers that the audit gave: each was so, on the engines named, before it was closed.
import { expect } from 'chai'
import { anonymous, createGuard, InputError, readRulebook } from 'pachter'
import { sqlite, sqlStore } from 'pachter/sql'
import { rules, eva, on, Given } from './support/allotted.js'
import { each } from './support/holes.js'
import { refusalOf } from './support/korenveld.js'

describe('an audit found values that become code', () => {
  each('(1) what looks like an expression is none', async ({ store }) => {
    const scale = '2)::text) UNION SELECT version()::text --'
    const forged = [
      {
        source: {
          shape: { type: 'text' },
          level: 0,
          steps: [],
          operand: { kind: 'value', value: '1.00', shape: { type: 'decimal', scale } },
        },
      },
      {
        source: {
          shape: { type: 'text' },
          level: 0,
          steps: [],
          operand: { kind: 'field', level: 0, name: 'secret' },
        },
      },
    ]
    for (const title of forged) {
      const where = (row: { secret: { is(value: unknown): unknown } }) => row.secret.is(title)
      expect(await refusalOf(on(store, eva)['list']?.('entries', { where }) as never)).to.be.instanceOf(InputError)
    }
    const read = () =>
      readRulebook(
        JSON.stringify(rules)
          .replace('"value":"open"', `"value":"1.00"`)
          .replace('"type":"choice"', `"type":"decimal","scale":"${scale}"`),
      )
    expect(read).to.throw(/scale|type/)
  })

  it('(2) data is not trusted, and nobody', () => {
    const guard = createGuard({ rules, store: sqlStore({ dialect: sqlite } as never) })
    for (const given of ['{"trusted":"x"}', '{"anonymous":true}', '{"trusted":"x","id":1}']) {
      expect(() => guard.as(Given(given) as never)).to.throw(/Data cannot say|no caller attribute/)
    }
    expect(guard.as(anonymous)).to.be.an('object')
  })

  each('(3) the roles of a caller are those it came with', async ({ store }) => {
    const roles: string[] = []
    const guard = createGuard({ rules, store })
    const early = guard.as({ id: 2, roles: roles as never })
    roles.push('chair')
    expect(await early.count('members')).to.equal(1)
    expect(await guard.as({ id: 2 }).count('members')).to.equal(1)
  })

  each('(4) no name is ignored, no list has holes, no validator is passed by', async ({ store }) => {
    const as = on(store, eva)
    const update = await refusalOf(as['update']?.('entries', 2, Given('{"title":"x","__proto__":{"a":1}}')) as never)
    expect(Object.hasOwn((update as InputError).fields, '__proto__')).to.equal(true)
    expect(await refusalOf(as['get']?.('entries', Given('{"id":2,"__proto__":1}')) as never)).to.be.instanceOf(
      InputError,
    )
    const holes: string[] = ['a']
    holes[2] = 'b'
    expect(await refusalOf(as['update']?.('entries', 2, { tags: holes }) as never)).to.be.instanceOf(InputError)
    const validate = () => ({ then: (done: (value: unknown) => void) => done({ issues: [{ message: 'never' }] }) })
    const validators = { entries: { update: { '~standard': { version: 1, validate } } } } as never
    const guard = createGuard({ rules, store, validators })
    expect(await refusalOf(guard.as(eva).update('entries', 2, { title: 'x' }))).to.have.nested.property(
      'fields.values',
      'never',
    )
  })
})
