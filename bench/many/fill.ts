import { createHash } from 'node:crypto'
import Database from 'better-sqlite3'
import { createTables, insertRecord, sqlite } from 'pachter/sql'
import { model } from './rules.js'

/** The same uuid for the same thing, on every run. */
export function uuid(what: string, number: number): string {
  const hash = createHash('sha256').update(`${what} ${number}`).digest('hex')
  return `${hash.slice(0, 8)}-${hash.slice(8, 12)}-4${hash.slice(13, 16)}-a${hash.slice(17, 20)}-${hash.slice(20, 32)}`
}

const SIZES = { members: 5_000, sites: 20, plots: 6_000, tasks: 300_000, notes: 60_000, documents: 400 }

const FIRST = ['Ana', 'Ben', 'Carla', 'Dirk', 'Eva', 'Femke', 'Gijs', 'Hanna', 'Ivo', 'Jet', 'Koen', 'Lies']
const LAST = ['Brouwer', 'Okafor', 'Vermeulen', 'de Wit', 'Jansen', 'Bakker', 'Smit', 'Mulder', 'Visser', 'Kok']
const WORK = [
  'Mend the fence at',
  'Water',
  'Weed',
  'Turn the compost of',
  'Prune the hedge around',
  'Paint the shed on',
]

const at = <T>(all: readonly T[], number: number): T => all[number % all.length] as T
/** Spreads one kind of thing over another, so that neighbours in one are none in the other. */
const spread = (number: number, over: number): number => ((number * 7919) % over) + 1
const day = (number: number): Date => new Date(Date.UTC(2020, 0, 1) + (number % 2_000) * 86_400_000)

/** Makes the database. */
export function fill(file: string): void {
  const database = new Database(file)
  database.pragma('journal_mode = MEMORY')
  database.pragma('synchronous = OFF')
  for (const statement of createTables(model, sqlite)) database.exec(statement)
  const store = (
    table: keyof typeof model.tables,
    count: number,
    record: (number: number) => Record<string, unknown>,
  ) => {
    database.transaction(() => {
      for (let number = 1; number <= count; number += 1) {
        const { text, values } = insertRecord(model, sqlite, table, record(number))
        database.prepare(text).run(...values)
      }
    })()
  }
  const member = (number: number) => uuid('member', number)
  const plot = (number: number) => uuid('plot', number)
  store('members', SIZES.members, (number) => ({
    id: member(number),
    name: `${at(FIRST, number)} ${at(LAST, spread(number, 10))}`,
    email: `member${number}@korenveld.example`,
    duties: number === 6 ? ['secretary'] : [],
    joinedAt: day(number),
  }))
  store('sites', SIZES.sites, (number) => ({
    id: uuid('site', number),
    name: `Field ${number}`,
    wardenId: member(number),
  }))
  store('plots', SIZES.plots, (number) => ({
    id: plot(number),
    siteId: uuid('site', spread(number, SIZES.sites)),
    number: `${at('ABCDEF'.split(''), number)}${number}`,
    holderId: number % 7 === 0 ? null : member(spread(number, SIZES.members - 1)),
  }))
  store('tasks', SIZES.tasks, (number) => ({
    id: uuid('task', number),
    plotId: plot(spread(number, SIZES.plots)),
    reporterId: member(spread(number, SIZES.members - 1)),
    assigneeId: number % 3 === 0 ? null : member(spread(number + 11, SIZES.members - 1)),
    title: `${at(WORK, number)} plot ${spread(number, SIZES.plots)}`,
    state: at(['open', 'doing', 'done'], number),
    audience: number % 50 === 0 ? 'public' : at(['private', 'site'], number),
    budget: number % 10 === 0 ? `${number % 400} euros` : null,
    createdAt: day(number),
    deletedAt: number % 40 === 0 ? day(number + 30) : null,
  }))
  store('taskHelpers', 100_000, (number) => ({
    taskId: uuid('task', number * 3),
    memberId: member(spread(number, SIZES.members - 1)),
  }))
  store('notes', SIZES.notes, (number) => ({
    id: uuid('note', number),
    taskId: uuid('task', number * 5),
    authorId: member(spread(number, SIZES.members - 1)),
    body: `Note ${number}: bring the long ladder`,
  }))
  store('documents', SIZES.documents, (number) => ({
    id: uuid('document', number),
    siteId: uuid('site', spread(number, SIZES.sites)),
    name: `Minutes of ${2000 + (number % 26)}-${(number % 12) + 1}`,
    isPublic: number % 9 === 0,
  }))
  store('documentShares', 2_000, (number) => ({
    documentId: uuid('document', spread(number, SIZES.documents)),
    memberId: member(number),
  }))
  database.exec('ANALYZE')
  database.close()
}
