// How much is lost where not the best form is taken, on drawn tables and questions.
import { createGuard, type Form } from 'pachter'
import type { Bench } from './databases.js'
import { type Asked, Dice, type Drawn, draw, fill } from './drawn.js'
import { median, timed } from './measure.js'

/** How many tables are drawn, the largest of so many records, and how many questions about each. */
const TABLES = 15
const MOST = 150_000
const QUESTIONS = 20

/** Below so many milliseconds of difference, forms are as good as each other. */
const LITTLE = 1

/** A form that takes so many times as long as the best is not measured on. */
const HOPELESS = 5

/** What came of one question: how long each form takes, in milliseconds, and which one was taken. */
export interface Case {
  readonly group: string
  readonly about: string
  readonly taken: Form
  readonly best: Form
  readonly times: Readonly<Record<string, number>>
  /** How many times what the best form needs; 1 where the difference is next to nothing. */
  readonly regret: number
}

type Mine = ReturnType<ReturnType<typeof guardOn>['as']>

const guardOn = (rules: Drawn['rules'], store: Bench['store']) => createGuard({ rules, store: { ...store } })

const FORMS: readonly Form[] = ['gather', 'walk', 'scan']

/** Measures every form for every question, on one database. */
export async function measureRegret({ name: group, store }: Bench): Promise<readonly Case[]> {
  const dice = new Dice(20261125)
  const cases: Case[] = []
  for (let at = 0; at < TABLES; at += 1) {
    const drawn = await fill(store, dice, MOST)
    // What is known of another table of that name does not count.
    const guard = guardOn(drawn.rules, store)
    for (let question = 0; question < QUESTIONS; question += 1) {
      const asked = draw(dice, drawn.rows)
      cases.push({ group, ...(await measure(guard.as(asked.caller), asked, drawn)) })
    }
  }
  return cases
}

async function measure(mine: Mine, asked: Asked, drawn: Drawn): Promise<Omit<Case, 'group'>> {
  const work = (form: Form) => () => {
    const options = { ...asked.options, form } as never
    return asked.count ? mine.count('items', options) : mine.list('items', options)
  }
  const plan = await mine.plan('items', asked.options as never)
  const taken = plan?.form ?? 'gather'
  const first: Record<string, number> = {}
  for (const form of FORMS) first[form] = Math.min(await timed(work(form), 1), await timed(work(form), 1))
  const quickest = Math.min(...Object.values(first))
  const hopeful = FORMS.filter((form) => (first[form] ?? 0) < Math.max(HOPELESS * quickest, quickest + LITTLE))
  const taking: Record<string, number[]> = {}
  const rounds = Math.max(2, Math.min(7, Math.floor(60 / quickest)))
  for (let round = 0; round < rounds; round += 1) {
    for (const form of hopeful) (taking[form] ??= []).push(await timed(work(form), 1))
  }
  const times = Object.fromEntries(FORMS.map((form) => [form, median(taking[form] ?? [first[form] ?? 0])]))
  const best = FORMS.reduce((least, form) => ((times[form] ?? 0) < (times[least] ?? 0) ? form : least))
  const [needs, least] = [times[taken] ?? 0, times[best] ?? 0]
  return {
    about: `${asked.about}; ${drawn.about}`,
    taken,
    best,
    times,
    regret: needs - least < LITTLE ? 1 : needs / least,
  }
}

/** At most so many times what the best form needs. */
export const TARGET = 2
