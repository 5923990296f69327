import { expect } from 'chai'
import { createGuard, InputError, LimitError, PachterError, RefusedError, UnknownNameError } from 'pachter'
import type { SqlStore } from 'pachter/sql'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { type Engine, engineNames, load, openEngines, undone } from './support/engines.js'

/** What looks like an expression, a caller, an option or SQL, as JSON text, since that is how it comes. */
const source = (operand: object) => ({ source: { shape: { type: 'text' }, level: 0, steps: [], operand } })
const scale = '2)::text) UNION SELECT version()::text --'
const SHAPES: readonly unknown[] = [
  source({ kind: 'field', level: 0, name: 'body' }),
  source({ kind: 'value', value: '1.00', shape: { type: 'decimal', scale } }),
  source({ kind: 'caller', name: 'id' }),
  source({ kind: 'given', name: 'key id' }),
  source({ kind: 'now', plusSeconds: 1e300 }),
  { kind: 'always' },
  { kind: 'not', of: { kind: 'never' } },
  { kind: 'after', of: { kind: 'always' } },
  { kind: 'some', relation: 'plot', table: 'plots', from: {}, to: {}, one: true, where: { kind: 'always' } },
  { kind: 'may', level: 0, table: 'entries', action: 'read' },
  { trusted: 'x' },
  { anonymous: true },
  { 'pachter term': true, source: {} },
  { pieces: ['1) OR 1=1 --'] },
  { strings: ['x'], raw: ['x'] },
  { toJSON: 'x', then: 'y', valueOf: 'z', toString: 0 },
  { __proto__: null, constructor: { prototype: { admin: true } } },
  { length: 1, 0: 'x' },
  { type: 'Buffer', data: [1] },
  { $gt: '' },
  [],
  [[]],
  [null],
  [{ kind: 'always' }],
  [['id']],
  {},
  null,
  true,
  false,
  0,
  -0,
  1e308,
  2 ** 53,
  -1,
  0.5,
]
const TEXTS: readonly string[] = [
  '',
  ' ',
  '\0',
  '\ud800',
  "'",
  "''; DROP TABLE entries; --",
  '" OR 1=1 --',
  '`',
  '\\',
  '$1',
  '?',
  ':x',
  '%',
  '__proto__',
  'constructor',
  'toString',
  'key id',
  '$limit',
  'where 1',
  'id descending',
  'id; DROP TABLE entries',
  '1e1000',
  'NaN',
  'infinity',
  '2026-11-25',
  '9'.repeat(400),
  'a'.repeat(5_000),
  '{"kind":"always"}',
  '\u202e',
  '\u{1F331}'.repeat(40),
]
/** Each of them alone, in a list, as a field of an object, and under a name that objects have. */
const HOSTILE: readonly unknown[] = [...SHAPES, ...TEXTS].flatMap((each): readonly unknown[] => {
  const text = JSON.stringify(each) as string
  return [
    text,
    `[${text}]`,
    `{"is":${text}}`,
    `{"__proto__":${text}}`,
    `[${text},${text}]`,
    `{"id":${text}}`,
    `{"entryId":${text},"memberId":2}`,
    `{"title":${text},"body":${text}}`,
  ].map((json) => JSON.parse(json) as unknown)
})

type AnyStore = Record<string, (...given: unknown[]) => Promise<unknown>>

/** A row, of which anything can be asked. */
type Row = Readonly<Record<string, Readonly<Record<string, (...given: unknown[]) => unknown>>>>

/** Every place a value can stand in. */
const PLACES: Readonly<Record<string, (as: AnyStore, value: unknown) => Promise<unknown> | undefined>> = {
  is: (as, value) => as['list']?.('entries', { where: (row: Row) => row['title']?.is?.(value) }),
  isNot: (as, value) => as['count']?.('entries', { where: (row: Row) => row['authorId']?.isNot?.(value) }),
  oneOf: (as, value) => as['exists']?.('entries', { where: (row: Row) => row['title']?.oneOf?.(value) }),
  startsWith: (as, value) => as['list']?.('entries', { where: (row: Row) => row['title']?.startsWith?.(value) }),
  above: (as, value) => as['list']?.('entries', { where: (row: Row) => row['createdAt']?.above?.(value) }),
  between: (as, value) => as['list']?.('entries', { where: (row: Row) => row['plotId']?.between?.(value, value) }),
  includes: (as, value) => as['list']?.('jobs', { where: (row: Row) => row['watcherIds']?.includes?.(value) }),
  includesAny: (as, value) => as['list']?.('jobs', { where: (row: Row) => row['forDuties']?.includesAny?.(value) }),
  where: (as, value) => as['list']?.('entries', { where: value }),
  built: (as, value) => as['list']?.('entries', { where: () => value }),
  may: (as, value) => as['list']?.('entries', { where: (row: { may(action: unknown): unknown }) => row.may(value) }),
  fields: (as, value) => as['list']?.('entries', { fields: value }),
  orderBy: (as, value) => as['list']?.('entries', { orderBy: value }),
  limit: (as, value) => as['list']?.('entries', { limit: value }),
  offset: (as, value) => as['list']?.('entries', { offset: value }),
  after: (as, value) => as['list']?.('entries', { after: value }),
  'after id': (as, value) => as['list']?.('entries', { after: { id: value } }),
  with: (as, value) => as['list']?.('entries', { with: value }),
  'with plot': (as, value) => as['list']?.('entries', { with: { plot: value } }),
  access: (as, value) => as['get']?.('entries', 1, { access: value }),
  form: (as, value) => as['count']?.('entries', { form: value }),
  options: (as, value) => as['list']?.('entries', value),
  key: (as, value) => as['get']?.('entries', value),
  'key of two': (as, value) => as['get']?.('entryShares', value),
  table: (as, value) => as['list']?.(value as string),
  values: (as, value) => as['create']?.('entries', value),
  title: (as, value) => as['update']?.('entries', 1, { title: value }),
  plotId: (as, value) => as['create']?.('entries', { plotId: value, audience: 'private', title: 'x', body: 'x' }),
  until: (as, value) => as['upsert']?.('entryShares', { entryId: 1, memberId: 6, level: 'view', until: value }),
  upsert: (as, value) => as['upsert']?.('entryShares', value),
  removed: (as, value) => as['delete']?.('entries', value),
  action: (as, value) => as['act']?.('applications', value, 1),
  keys: (as, value) => as['updateMany']?.('entries', value, { title: 'x' }),
  many: (as, value) => as['createMany']?.('entries', value),
}
/** What the wrong value of a caller comes to. */
const isClear = (error: unknown): boolean =>
  error instanceof InputError ||
  error instanceof UnknownNameError ||
  error instanceof LimitError ||
  error instanceof RefusedError ||
  (error instanceof PachterError && ['conflict', 'bulk-refused'].includes(error.code))

describe('hostile values', () => {
  let engines: readonly Engine[]
  before(async () => {
    engines = await openEngines()
    for (const engine of engines) await load(engine, model, await readData())
  })

  it(`${HOSTILE.length} of them in ${Object.keys(PLACES).length} places are values or clear errors, and change no SQL, on ${engineNames.join(', ')}`, async function () {
    this.timeout(0)
    expect(HOSTILE.length).to.be.greaterThan(500)
    for (const engine of engines) {
      const harmless = await sentBy(engine, ['Leeks', '', 1, [1], [['x']], 5, 'title'])
      for (const [place, texts] of Object.entries(await sentBy(engine, HOSTILE))) {
        // A statement names fields and asks for so many parts: with texts of the same shape, it reads the same.
        const known = new Set([...(harmless[place] ?? [])].map(shapeOf))
        for (const text of texts) {
          expect(text, `${engine.name} ${place}`).not.to.match(/version\(\)|DROP TABLE|UNION SELECT version|1=1/)
          if (['is', 'isNot', 'startsWith', 'above', 'title', 'key', 'removed', 'limit'].includes(place)) {
            expect([...known], `${engine.name} ${place}: ${text}`).to.include(shapeOf(text))
          }
        }
      }
    }
  })

  /** What is sent for each place, all values taken in turn; whatever is written is taken back. */
  async function sentBy({ name, store }: Engine, values: readonly unknown[]): Promise<Record<string, Set<string>>> {
    const sent: Record<string, Set<string>> = {}
    for (const [place, ask] of Object.entries(PLACES)) {
      const texts = (sent[place] = new Set<string>())
      await undone(store, async (inside) => {
        const heard: SqlStore = {
          ...inside,
          query: (text, given) => {
            texts.add(text)
            return inside.query(text, given)
          },
        }
        const as = createGuard({ rules, store: heard }).as({ id: 1 }) as unknown as AnyStore
        for (const value of values) {
          try {
            await ask(as, value)
          } catch (error) {
            if (!isClear(error)) throw new Error(`${name}, ${place}, ${JSON.stringify(value)}`, { cause: error })
          }
        }
      })
    }
    return sent
  }

  /** A statement, whatever it asks of its values: what locks and looks again comes in any order. */
  const shapeOf = (text: string): string => text.replaceAll(/pachter_\d+_\d+/g, 'part')
})
