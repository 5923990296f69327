// How long a large rulebook takes to load, and whether a verdict costs more in it than in a small one.
import {
  choice,
  decide,
  defineCaller,
  defineModel,
  defineRules,
  integer,
  readRulebook,
  references,
  type RuleContext,
  text,
} from 'pachter'

const GRANTS = 20
const ROUNDS = 15
const VERDICTS = 2_000

/** Rules for so many tables of the shape of Korenveld's journal, with twenty grants each. */
function rulesFor(tables: number) {
  const entries = {
    id: integer().key(),
    authorId: references('members'),
    audience: choice('private', 'members', 'public'),
    title: text(),
  }
  const names = Array.from({ length: tables }, (_, at) => `entries${at}`)
  const model = defineModel({
    members: { id: integer().key(), name: text() },
    ...(Object.fromEntries(names.map((name) => [name, entries])) as { entries0: typeof entries }),
  })
  const caller = defineCaller({ id: integer() }, { roles: ['secretary'] })
  const write = ({ row, caller: me, role, table }: RuleContext<typeof model, typeof caller, 'entries0'>) => {
    const grant = { to: ['author', role('secretary')], when: row.audience.isNot('members') } as const
    const each = Array.from({ length: GRANTS / 4 }, () => grant)
    return table
      .ties({ author: row.authorId.is(me.id), everyone: row.audience.is('public') })
      .grants({ read: each, create: each, update: each, delete: each })
  }
  return () => defineRules(model, caller, Object.fromEntries(names.map((name) => [name, write])))
}

const median = (values: readonly number[]): number =>
  [...values].sort((left, right) => left - right)[Math.floor(values.length / 2)] ?? 0

function timed(work: () => void): number {
  const start = performance.now()
  work()
  return performance.now() - start
}

const define = rulesFor(200)
const [small, large] = [rulesFor(5), define].map((each) => JSON.stringify(each())) as [string, string]
const data = { members: [], entries0: [] }
const record = { id: 1, authorId: 7, audience: 'private', title: 'First leeks in' }
const verdicts = (json: string) => {
  const rules = readRulebook(json)
  const ask = () => decide(rules, { caller: { id: 7 }, action: 'update', table: 'entries0', record, data })
  return () => {
    for (let times = 0; times < VERDICTS; times += 1) ask()
  }
}
const [inSmall, inLarge] = [verdicts(small), verdicts(large)]

const load: number[] = []
const defined: number[] = []
const cost: { small: number[]; large: number[] } = { small: [], large: [] }
for (let round = 0; round < ROUNDS; round += 1) {
  defined.push(timed(define))
  load.push(timed(() => readRulebook(large)))
  cost.small.push(timed(inSmall))
  cost.large.push(timed(inLarge))
}
const perVerdict = (times: readonly number[]) => (median(times) * 1000) / VERDICTS
console.log(
  `200 tables × ${GRANTS} grants, ${Math.round(large.length / 1024)} kB of JSON: read and checked in ${median(load).toFixed(1)} ms`,
)
console.log(`the same from TypeScript, by defineRules: ${median(defined).toFixed(1)} ms`)
console.log(
  `one verdict with its reasons: ${perVerdict(cost.small).toFixed(2)} µs with 5 tables, ${perVerdict(cost.large).toFixed(2)} µs with 200`,
)
console.log(`ratio: ${(perVerdict(cost.large) / perVerdict(cost.small)).toFixed(2)}`)
