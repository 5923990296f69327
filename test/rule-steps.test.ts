import { expect } from 'chai'
import {
  choice,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  references,
  type RuleContext,
  RuleError,
  text,
  timestamp,
  UnknownNameError,
} from 'pachter'

const model = defineModel({
  members: { id: integer().key() },
  plots: {
    id: integer().key(),
    holderId: references('members').optional(),
    keeperId: references('members'),
    number: text().optional(),
    areaM2: integer().optional(),
    state: choice('free', 'let').optional(),
    heldSince: timestamp().optional(),
  },
})
const caller = defineCaller({ id: integer(), email: text().optional() }, { roles: ['keeper'] })
type Plots = RuleContext<typeof model, typeof caller, 'plots'>

describe('the steps by which rules are written', () => {
  it('keep what an earlier step said, or refuse the later one', () => {
    const written = (write: (context: Plots) => { readonly rules: never }) => () =>
      defineRules(model, caller, { plots: write as never }).tables['plots']
    const apart = written(({ row, table, caller, now, signedIn }) => {
      const joined = table
        .ties({ holder: row.holderId.is(caller.id) })
        .grants({ read: ['holder'], get: [signedIn] })
        .denies({ kept: { on: 'delete', when: row.keeperId.isSet(), message: 'It is kept.' } })
        .stamps({ create: { keeperId: caller.id } })
        .checks({ number: { length: [1, 3] } })
      return joined
        .ties({ keeper: row.keeperId.is(caller.id) })
        .grants({
          read: ['keeper'],
          update: [{ asFor: 'get', fields: ['number'] }],
          delete: [{ asFor: 'get', fields: ['number'] }],
        })
        .denies({ held: { on: 'delete', when: row.holderId.isSet(), message: 'It is held.' } })
        .stamps({ create: { heldSince: now }, update: { heldSince: now } })
        .checks({ number: { onUpdate: 'forbidden' } }) as never
    })
    const grants = (...to: unknown[]) => to.map((each) => ({ to: [each] }))
    const byFields = grants('holder', 'keeper', { kind: 'signedIn' }).map((each) => ({ ...each, fields: ['number'] }))
    expect(apart()?.grants['read']).to.deep.equal(grants('holder', 'keeper'))
    expect([apart()?.grants['update'], apart()?.grants['delete']]).to.deep.equal([byFields, byFields])
    expect(apart()).to.have.nested.property('denies.kept')
    expect(apart()?.stamps['create']).to.have.all.keys('keeperId', 'heldSince')
    expect(apart()?.checks.fields['number']).to.deep.equal({ length: [1, 3], onUpdate: 'forbidden' })
    const twice: [(context: Plots) => unknown, RegExp][] = [
      [
        ({ row, table }) => table.ties({ t: row.id.isSet() }).ties({ t: row.id.is(1) }),
        /plots: the tie t is written tw/,
      ],
      [
        ({ row, table }) => {
          const deny = { on: 'update', when: row.id.is(1), message: 'No.' } as const
          return table.denies({ no: deny }).denies({ no: { ...deny, on: 'delete' } })
        },
        /the deny no is written twice/,
      ],
      [
        ({ table, now }) => table.stamps({ update: { heldSince: now } }).stamps({ update: { heldSince: now } }),
        /the update stamp of heldSince is written twice/,
      ],
      [
        ({ table }) => table.checks({ number: { length: [1, 3] } }).checks({ number: { length: [0, 9] } }),
        /the check of number, its length is written twice/,
      ],
      [({ row, table }) => table.gone(row.heldSince.isSet()).gone(row.id.is(1)), /the condition gone is written twice/],
      [({ table }) => table.grants({ update: [{ asFor: 'delete' }] }), /asFor 'delete' leads to no grant/],
      [
        ({ row, table }) => table.denies({ no: { on: [], when: row.id.is(1), message: 'No.' } }),
        /the deny no of plots is on no action/,
      ],
      [({ table }) => table.stamps({ update: { id: 1 } }), /stamps update: id is part of the key/],
      [({ table }) => table.checks({ number: { length: [9, 1] } }), /the length of number begins above where it ends/],
      [({ table }) => table.checks({ areaM2: { range: [9, 1] } }), /the range of areaM2 begins above where it ends/],
      [
        ({ table, caller }) => table.stamps({ create: { state: caller.email as never } }),
        /state is one of free, let and cannot be stamped with text/,
      ],
    ]
    for (const [write, message] of twice) expect(written(write as never)).to.throw(RuleError, message)
  })

  it('are refused wherever they say what means nothing, or nothing of what they say', () => {
    type Spec = Readonly<Record<string, unknown>>
    const specs: [(context: Plots) => Spec, (context: Plots, spec: never) => unknown][] = [
      [
        ({ row, signedIn }) => ({
          to: signedIn,
          fields: ['number'],
          when: row.id.is(1),
          after: row.id.is(1),
          gone: true,
        }),
        ({ row, table }, spec) => table.gone(row.heldSince.isSet()).grants({ update: [spec] }),
      ],
      [
        () => ({ asFor: 'create', fields: ['number'] }),
        ({ table, signedIn }, spec) => table.grants({ create: [signedIn], update: [spec] }),
      ],
      [
        ({ row, signedIn }) => ({ on: 'update', when: row.id.is(1), except: signedIn, message: 'No.' }),
        ({ table }, spec) => table.denies({ no: spec }),
      ],
      [
        () => ({ onCreate: 'required', onUpdate: 'forbidden', length: [1, 3], pattern: /^[a-z]+$/ }),
        ({ table }, spec) => table.checks({ number: spec }),
      ],
      [() => ({ range: [1, 3] }), ({ table }, spec) => table.checks({ areaM2: spec })],
      [
        ({ row }) => ({ that: row.id.is(1), message: 'No.', fields: ['number'] }),
        ({ table }, spec) => table.checks({}, { no: spec }),
      ],
      [
        ({ now }) => ({ onDelete: { heldSince: now } }),
        ({ row, table }, spec) => table.gone(row.heldSince.isSet(), spec),
      ],
    ]
    for (const [spec, write] of specs) {
      const defined = (change: (spec: Spec) => Spec) => () =>
        defineRules(model, caller, {
          plots: ((context: Plots) => write(context, change(spec(context)) as never)) as never,
        })
      const names: string[] = []
      defined((whole) => {
        names.push(...Object.keys(whole))
        return whole
      })()
      expect(names).to.have.length.above(0)
      for (const name of names) {
        expect(
          defined((whole) => ({ ...whole, [name]: undefined })),
          name,
        ).to.throw(RuleError)
        expect(
          defined((whole) => ({ ...whole, [name]: false })),
          name,
        ).to.throw(RuleError)
        expect(
          defined(({ [name]: value, ...rest }) => ({ ...rest, [`${name}s`]: value })),
          name,
        ).to.throw(RuleError)
        expect(
          defined(({ [name]: value, ...rest }) => ({ ...rest, [`${name}?`]: value })),
          name,
        ).to.throw(RuleError)
      }
    }
    const misnamed = { fences: { field: 'id', is: 'id' } } as never
    expect(() => defineRules(model, caller, {}, misnamed)).to.throw(
      UnknownNameError,
      /no option "fences" in defineRules/,
    )
    expect(() => defineRules(model, caller, {}, { fence: undefined as never })).to.throw(RuleError, /nothing of it/)
    expect(() => defineModel({}, { name: 'snakeCase' } as never)).to.throw(UnknownNameError)
    expect(() => defineCaller({ id: integer() }, { role: ['keeper'] } as never)).to.throw(UnknownNameError)
  })
})
