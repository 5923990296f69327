import { expect } from 'chai'
import {
  all,
  any,
  type Condition,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  list,
  ModelError,
  not,
  references,
  type RuleContext,
  RuleError,
  type Rulebook,
  text,
  timestamp,
} from 'pachter'
import { anyOf, notOf, normalise, print } from 'pachter/condition'
import { checkRulebook } from 'pachter/rules'
import { rules } from '../examples/allotment/rules.js'

const model = defineModel({
  members: { id: integer().key(), email: text(), duties: list(text()), joinedAt: timestamp().optional() },
  plots: { id: integer().key(), holderId: references('members').optional(), keeperId: references('members') },
  remarks: { id: integer().key(), plotId: references('plots'), answersId: references('remarks').optional() },
})
const caller = defineCaller({ id: integer(), email: text().optional() }, { roles: ['keeper'] })
type Plots = RuleContext<typeof model, typeof caller, 'plots'>
type Members = RuleContext<typeof model, typeof caller, 'members'>

/** The condition built on a table, as it prints. */
const onPlots = (build: (context: Plots) => Condition): Condition => {
  const { tables } = defineRules(model, caller, {
    plots: (context) => context.table.ties({ tie: build(context) }),
  })
  return tables['plots']?.ties['tie'] as Condition
}
const onMembers = (build: (context: Members) => Condition): Condition => {
  const { tables } = defineRules(model, caller, {
    members: (context) => context.table.ties({ tie: build(context) }),
  })
  return tables['members']?.ties['tie'] as Condition
}

describe('the model', () => {
  const wrong: [() => unknown, RegExp][] = [
    [() => defineModel({ plots: { number: text() } }), /plots has no key/],
    [() => defineModel({ plots: { id: integer().key().optional() } }), /part of the key and cannot be optional/],
    [() => defineModel({ plots: { 'id"; --': integer().key() } }), /cannot name a field/],
    [() => defineModel({ constructor: { id: integer().key() } }), /cannot name a table/],
    [() => defineModel(JSON.parse('{"__proto__":{}}')), /cannot name a table/],
    [
      () => defineModel({ plots: { id: integer().key(), siteId: references('sites' as 'plots') } }),
      /"sites", which the model does not/,
    ],
    [
      () =>
        defineModel({
          pairs: { a: integer().key(), b: integer().key() },
          x: { id: integer().key(), p: references('pairs') },
        }),
      /no single key field/,
    ],
    [() => defineModel({ a: { id: references('b').key() }, b: { id: references('a').key() } }), /circle of keys/],
  ]
  it('refuses what cannot be', () => {
    for (const [define, message] of wrong) expect(define).to.throw(ModelError, message)
  })
})

describe('conditions', () => {
  it('print as a line that a person reads', () => {
    const lines: [Condition, string][] = [
      [
        onPlots(({ row, caller }) => any(row.holderId.is(caller.id), not(row.keeper.email.is('a@b.example')))),
        "row.holderId is caller.id or not row.keeper.email is 'a@b.example'",
      ],
      [
        onPlots(({ row }) => all(row.holderId.isMissing(), any(row.id.above(4), row.id.oneOf([1, 2])))),
        'row.holderId is missing and (row.id is above 4 or row.id is one of (1, 2))',
      ],
      [
        onPlots(({ row }) => row.remarks.none((remark) => remark.plotId.isNot(row.keeperId))),
        'no remarks where plotId is not row.keeperId',
      ],
      [
        onPlots(({ row }) => row.remarks.every((remark) => remark.answersId.isSet())),
        'no remarks where answersId is missing',
      ],
      [
        onPlots(({ row, caller }) =>
          row.remarks.some((remark) => remark.remarks.some((answer) => answer.plot.holderId.is(caller.id))),
        ),
        'some remarks where some remarks where plot.holderId is caller.id',
      ],
      [
        onMembers(({ row, caller }) =>
          all(
            row.duties.includes('keeper'),
            row.email.startsWith("o'"),
            row.plots.by('holderId').some((plot) => plot.keeperId.is(caller.id)),
          ),
        ),
        "row.duties includes 'keeper' and row.email starts with 'o''' and some plots where keeperId is caller.id",
      ],
      [onMembers(({ row, now }) => row.joinedAt.atMost(now)), 'row.joinedAt is at most now'],
      [onMembers(({ role, signedIn }) => not(all(role('keeper'), signedIn))), 'not (role keeper and signed in)'],
    ]
    lines.push([onPlots(({ row }) => all(any(row.id.is(1)), any())), 'row.id is 1 and never'])
    for (const [condition, line] of lines) expect(print(condition)).to.equal(line)
  })

  it('normalise with negation at the leaves and constants gone', () => {
    const condition = onPlots(({ row, caller, anyone }) =>
      not(any(all(anyone, row.holderId.is(caller.id)), not(row.id.above(3)), not(anyone))),
    )
    expect(print(normalise(condition))).to.equal('row.holderId is not caller.id and row.id is above 3')
    expect(normalise(notOf(anyOf(condition, notOf(condition))))).to.have.property('kind', 'all')
  })
})

describe('rules', () => {
  it('are plain data that JSON carries without loss, and frozen', () => {
    const copy = JSON.parse(JSON.stringify(rules)) as Rulebook
    expect(copy).to.deep.equal(rules)
    checkRulebook(copy)
    expect(() => Object.assign(rules.tables['plots']?.grants ?? {}, { read: [] })).to.throw(TypeError)
  })

  it('are refused, with the place, where they do not fit', () => {
    const loose = (write: (context: never) => unknown) => () =>
      defineRules(model, caller, { plots: write as (context: Plots) => { rules: never } })
    const wrong: [() => unknown, RegExp][] = [
      [
        loose(({ row }: Plots) => (row as never as Record<string, object>)['holder_id']),
        /no field or relation "holder_id" in plots; known: id, holderId/,
      ],
      [
        loose(({ table }: Plots) => table.grants({ read: ['holder' as never] })),
        /plots grants read: there is no tie "holder"/,
      ],
      [
        loose(({ table }: Plots) => table.grants({ reed: [] } as never)),
        /In the rules of plots: There is no action "reed" in plots; known: read, list/,
      ],
      [
        loose(({ table, row, caller }: Plots) => table.ties({ t: row.id.is(caller.email as never) })),
        /plots tie t: row.id is caller.email compares an integer with text/,
      ],
      [loose(({ row }: Plots) => row.id.is('1' as never)), /compares with "1", which is not an integer/],
      [loose(({ row }: Plots) => row.holderId.is(null as never)), /ask isSet\(\) or isMissing\(\)/],
      [
        loose(({ caller }: Plots) => (caller as never as Record<string, object>)['mail']),
        /no attribute "mail"; known: id, email/,
      ],
      [loose(({ table, role }: Plots) => table.grants({ read: [role('chief' as never)] })), /no role "chief"/],
      [
        loose(({ table, row }: Plots) => table.stamps({ create: { holderId: row.keeperId } })),
        /cannot be taken from a field/,
      ],
      [
        loose(({ table, caller }: Plots) => table.stamps({ create: { keeperId: caller.email as never } })),
        /cannot be stamped with text/,
      ],
      [loose(({ table, row }: Plots) => table.grants({ read: [row.id.isSet() as never] })), /make it a tie/],
      [
        loose(({ table, row, caller }: Plots) => table.ties({ t: row.holderId.is(caller.id) && row.id.isNot(1) })),
        /the condition “row.holderId is caller.id” is made and stands nowhere.*write all/,
      ],
      [
        loose(({ table, row }: Plots) => table.ties({ t: row.remarks.some((r) => r.answersId.isSet() && r.id.is(1)) })),
        /is made and stands nowhere/,
      ],
      [loose(({ table }: Plots) => void table.grants({})), /returns none: return table/],
      [loose(async ({ table }: Plots) => Promise.resolve(table.grants({}))), /no promise of it/],
      [() => defineModel({ plots: { id: integer } } as never), /plots.id is function, and no field/],
      [() => defineCaller({ id: 'integer' } as never), /attribute id is "integer", and no field/],
    ]
    for (const [define, message] of wrong) expect(define).to.throw(message)
    expect(() =>
      defineRules(model, caller, {
        remarks: ({ row, table }) => table.ties({ up: row.answers.may('read') }).grants({ read: ['up'] }),
      }),
    ).to.throw(RuleError, /in a circle: remarks read, then remarks get/)
    expect(() => defineCaller({ id: integer().optional() } as never)).to.throw(RuleError, /never missing/)
  })

  it('are checked again when they come as data', () => {
    const damaged = JSON.parse(JSON.stringify(rules)) as {
      tables: Record<string, { ties: Record<string, { left: { name: string } }> }>
    }
    const author = damaged.tables['entries']?.ties['author']
    if (author) author.left.name = 'writerId'
    expect(() => checkRulebook(damaged as never)).to.throw(
      RuleError,
      /entries tie author: There is no field "writerId"/,
    )
  })
})
