// Tables of drawn size, spread and indexes, and drawn questions about them: what a choice of form has to serve.
import { defineCaller, defineModel, defineRules, integer, references, text, timestamp } from 'pachter'
import { createTables, type SqlStore } from 'pachter/sql'
import { NUMBERS } from './world.js'

const model = defineModel({
  boxes: { id: integer().key(), keeperId: integer() },
  items: {
    id: integer().key(),
    ownerId: integer(),
    boxId: references('boxes'),
    state: text(),
    rank: integer(),
    lostAt: timestamp().optional(),
    note: text(),
  },
  loans: { itemId: references('items').key(), memberId: integer().key() },
})
const TIES = ['owner', 'borrower', 'keeper', 'everyone'] as const

/** Rules in which so many ties open a record; with `present`, only as long as it is not lost. */
function rulesWith(ties: readonly (typeof TIES)[number][], present: boolean) {
  return defineRules(model, defineCaller({ id: integer() }), {
    items: ({ row, caller, table }) =>
      table
        .ties({
          owner: row.ownerId.is(caller.id),
          borrower: row.loans.some((loan) => loan.memberId.is(caller.id)),
          keeper: row.box.keeperId.is(caller.id),
          everyone: row.state.is('open'),
        })
        .grants({ read: [present ? { to: ties, when: row.lostAt.isMissing() } : { to: ties }] }),
  })
}

/** Numbers that come out the same on every run. */
export class Dice {
  #state: number
  constructor(seed: number) {
    this.#state = seed
  }

  /** From 0 to 1, by mulberry32. */
  next(): number {
    this.#state = (this.#state + 0x6d2b79f5) | 0
    let word = Math.imul(this.#state ^ (this.#state >>> 15), 1 | this.#state)
    word = (word + Math.imul(word ^ (word >>> 7), 61 | word)) ^ word
    return ((word ^ (word >>> 14)) >>> 0) / 2 ** 32
  }

  isBelow(chance: number): boolean {
    return this.next() < chance
  }

  /** Evenly on a scale on which each step is a multiple of the one before. */
  scaled(least: number, most: number): number {
    return least * (most / least) ** this.next()
  }

  oneOf<T>(all: readonly T[]): T {
    return all[Math.floor(this.next() * all.length)] as T
  }
}

/** One table with what leads to it, and whoever asks. */
export interface Drawn {
  readonly rules: ReturnType<typeof rulesWith>
  readonly about: string
  readonly rows: number
}

const CALLERS = [1, 2, 3, 4, 5, 6, 9_999]

/** A value for each record: so much of the table for each of the callers, together or spread over it, the rest for others. */
function spread(dice: Dice, n: string, rows: number): string {
  const isApart = dice.isBelow(0.6)
  const place = isApart ? `((${n} * 7919) % ${rows})` : n
  let taken = 0
  const cases = CALLERS.slice(0, 6).map((caller) => {
    taken += Math.min(rows - taken, Math.round(dice.scaled(1, rows * 0.6)))
    return `WHEN ${place} < ${taken} THEN ${caller}`
  })
  return `CASE ${cases.join(' ')} ELSE 100 + ${n} % 5000 END`
}

/** Fills an empty database with a drawn world of at most so many items. */
export async function fill(store: SqlStore, dice: Dice, most: number): Promise<Drawn> {
  const { dialect } = store
  const q = dialect.identifier
  const rows = Math.round(dice.scaled(500, most))
  const boxes = Math.max(2, Math.round(rows / dice.scaled(2, 200)))
  const ties = TIES.filter((tie) => tie === 'borrower' || dice.isBelow(0.6))
  const present = dice.isBelow(0.4)
  for (const table of ['loans', 'items', 'boxes']) await store.query(`DROP TABLE IF EXISTS ${q(table)}`, [])
  for (const statement of createTables(model, dialect)) await store.query(statement, [])
  const put = (table: string, columns: Record<string, string>, last: number, where = 'TRUE') =>
    store.query(
      `INSERT INTO ${q(table)} (${Object.keys(columns).map(q).join(', ')}) SELECT ${Object.values(columns).join(', ')} FROM ${NUMBERS[dialect.name](last)} WHERE ${where}`,
      [],
    )
  await put('boxes', { id: 'n', keeperId: spread(dice, 'n', boxes) }, boxes)
  const open = dice.scaled(0.001, 0.5)
  await put(
    'items',
    {
      id: 'n',
      ownerId: spread(dice, 'n', rows),
      boxId: `1 + (n * 7907) % ${boxes}`,
      state: `CASE WHEN (n * 613) % 1000 < ${Math.round(open * 1000)} THEN 'open' ELSE 'kept' END`,
      rank: `(n * 104729) % ${rows}`,
      lostAt: present
        ? `CASE WHEN n % 4 = 0 THEN ${dialect.name === 'sqlite' ? `'2026-03-01T00:00:00.000Z'` : dialect.name === 'postgresql' ? `timestamptz '2026-03-01'` : `'2026-03-01 00:00:00'`} END`
        : 'NULL',
      note: `'What lies in a shed, and whose it is.'`,
    },
    rows,
  )
  for (const [at, caller] of CALLERS.slice(0, 6).entries()) {
    const share = Math.max(1, Math.round(1 / dice.scaled(0.0005, 0.6)))
    await put('loans', { itemId: 'n', memberId: String(caller) }, rows, `n % ${share} = ${at % share}`)
  }
  await put('loans', { itemId: 'n', memberId: '100 + n % 700' }, rows, `n % ${dice.oneOf([1, 2, 5])} = 0`)
  const indexed = [
    ['items', 'ownerId', 0.85],
    ['items', 'state', 0.5],
    ['items', 'rank', 0.5],
    ['loans', 'memberId', 0.85],
    ['boxes', 'keeperId', 0.7],
  ].filter(([, , chance]) => dice.isBelow(chance as number)) as [string, string, number][]
  for (const [table, field] of indexed) {
    const column = dialect.name === 'mariadb' && field === 'state' ? `${q(field)}(16)` : q(field)
    await store.query(`CREATE INDEX ${q(`drawn_${table}_${field}`)} ON ${q(table)} (${column})`, [])
  }
  const analyse = { postgresql: 'VACUUM ANALYZE', sqlite: 'ANALYZE', mariadb: 'ANALYZE TABLE boxes, items, loans' }
  await store.query(analyse[dialect.name], [])
  const about = `${rows.toLocaleString('en')} items, ties ${ties.join(' ')}${present ? ', not lost' : ''}; indexes on ${indexed.map(([, field]) => field).join(' ') || 'nothing'}`
  return { rules: rulesWith(ties, present), about, rows }
}

/** What one caller asks for. */
export interface Asked {
  readonly caller: { readonly id: number }
  readonly count: boolean
  readonly options: {
    readonly limit?: number
    readonly orderBy?: 'rank' | 'rank descending'
    readonly where?: (row: never) => never
  }
  readonly about: string
}

/** A drawn question: a page in some order, with or without a condition of the request's own, or a count. */
export function draw(dice: Dice, rows: number): Asked {
  const id = dice.oneOf(CALLERS)
  const count = dice.isBelow(0.25)
  const limit = dice.oneOf([10, 50, 200])
  const orderBy = count ? undefined : dice.oneOf([undefined, undefined, 'rank', 'rank descending'] as const)
  const below = Math.round(dice.scaled(1, rows))
  const condition = dice.oneOf([
    undefined,
    undefined,
    ['rank below', (row: Row) => row.rank.below(below)],
    ['rank above', (row: Row) => row.rank.above(below)],
    ['open', (row: Row) => row.state.is('open')],
  ] as const)
  const about = [
    `member ${id}`,
    count ? 'count' : `${limit} by ${orderBy ?? 'key'}`,
    ...(condition ? [condition[0] === 'open' ? 'open' : `${condition[0]} ${below}`] : []),
  ]
  return {
    caller: { id },
    count,
    options: {
      ...(!count && { limit }),
      ...(orderBy && { orderBy }),
      ...(condition && { where: condition[1] as never }),
    },
    about: about.join(', '),
  }
}

interface Row {
  readonly rank: { below(value: number): unknown; above(value: number): unknown }
  readonly state: { is(value: string): unknown }
}
