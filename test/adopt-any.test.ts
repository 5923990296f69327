import { expect } from 'chai'
import fc from 'fast-check'
import * as pachter from 'pachter'
import { adopt, type Catalogue, type CatalogueColumn, type CatalogueTable, driftOf } from 'pachter/adopt'
import { postgresql } from 'pachter/sql'

const NAMES = ['id', 'ID', 'user_id', 'userId', 'owner', 'owner_id', 'Owner', 'users', 'orders', 'order_items', 'may']
const ODD = [
  'constructor',
  '__proto__',
  'select',
  "it's",
  'a`b',
  '"',
  '// */',
  '${x}',
  '\n',
  ' x',
  '_1',
  '1st',
  '名前',
  'naïve',
  'password',
  'is_public',
  'deleted_at',
  'role',
  'status',
  'organisation_id',
  'created_at',
  '\u2028x',
]
const name = fc.constantFrom(...NAMES, ...ODD)

const held = fc.constantFrom<Partial<CatalogueColumn>>(
  { type: 'text', shape: { type: 'text' } },
  { type: 'bigint', shape: { type: 'integer' }, isNumbered: true },
  { type: 'int', shape: { type: 'integer' } },
  { type: 'bool', shape: { type: 'boolean' } },
  { type: 'timestamptz', shape: { type: 'timestamp' } },
  { type: 'word', shape: { type: 'choice', choices: ['public', "it's", '\\', '`${x}`\n'] } },
  { type: 'decimal', shape: { type: 'decimal', scale: 2 } },
  { type: 'uuid', shape: { type: 'uuid' }, filled: 'default' },
  { type: 'uuid[]', shape: { type: 'list', item: 'uuid' } },
  { type: 'float', shape: { type: 'float' }, filled: 'computed' },
  { type: 'json', shape: { type: 'json' } },
  { type: 'point', remark: 'is of a type \n that */ no field holds' },
)

const filled = fc.constantFrom<Partial<CatalogueColumn>>({}, {}, {}, { filled: 'default' }, { filled: 'computed' })

const column = fc.tuple(name, held, fc.boolean(), filled).map(([called, what, isOptional, by]): CatalogueColumn => ({
  name: called,
  type: 'text',
  ...what,
  ...(what.shape && by),
  ...(isOptional && { isOptional: true }),
}))

/** By which records count as gone, sometimes beside what is unique. */
const GONE: CatalogueColumn = { name: 'is_deleted', type: 'bool', shape: { type: 'boolean' } }

const table = fc
  .record({
    name,
    columns: fc.uniqueArray(column, { selector: (each) => each.name, minLength: 1, maxLength: 7 }),
    keyOf: fc.nat(2),
    uniqueOf: fc.nat(6),
    references: fc.array(fc.tuple(fc.nat(6), name, name), { maxLength: 3 }),
    schema: fc.constantFrom(undefined, 'garden', "o'x"),
    isView: fc.boolean(),
    gone: fc.constantFrom(undefined, [], ['is_deleted']),
    goneBy: filled,
  })
  .map(({ columns, keyOf, uniqueOf, references, schema, isView, gone, goneBy, ...rest }): CatalogueTable => {
    const at = (place: number) => columns[place % columns.length]?.name as string
    return {
      ...rest,
      columns: [...columns, ...(gone ? [{ ...GONE, ...goneBy }] : [])],
      key: columns.slice(0, keyOf).map((each) => each.name),
      uniques: uniqueOf < 5 ? [[...new Set([at(uniqueOf), at(uniqueOf * 2), ...(gone ?? [])])]] : [],
      references: references.map(([place, to, toColumn]) => ({ columns: [at(place)], table: to, to: [toColumn] })),
      ...(schema !== undefined && { schema }),
      ...(isView && { isView: true }),
    }
  })

/** Who signs in, and what is theirs. */
const PEOPLE = fc
  .record({ type: fc.constantFrom('bigint', 'text', 'bigInteger' as const), goneBy: filled, ownerBy: filled })
  .map(({ type, goneBy, ownerBy }): readonly CatalogueTable[] => {
    const id = { name: 'id', type, shape: { type: type === 'bigint' ? ('integer' as const) : type } }
    const of = (called: string, columns: readonly CatalogueColumn[]) => ({
      name: called,
      columns,
      key: ['id'],
      uniques: [],
    })
    const password: CatalogueColumn = { name: 'password', type: 'text', shape: { type: 'text' } }
    const owner = { columns: ['owner_id'], table: 'people', to: ['id'] }
    return [
      { ...of('people', [id, password]), references: [] },
      { ...of('things', [id, { ...id, name: 'owner_id', ...ownerBy }, { ...GONE, ...goneBy }]), references: [owner] },
    ]
  })

/** A reference mostly leads to the key of a table that is there. */
const catalogue = fc
  .tuple(
    fc.uniqueArray(table, { selector: ({ schema, name: called }) => JSON.stringify([schema, called]), maxLength: 6 }),
    fc.array(PEOPLE, { maxLength: 1 }),
  )
  .map(([others, people]): Catalogue => {
    const tables = [...others, ...people.flat()]
    const leading = others.map((each, at) => ({
      ...each,
      references: each.references.map((reference, place) => {
        const target = tables[(at + place) % tables.length]
        const to = target?.key.length === 1 ? target : undefined
        return to
          ? { ...reference, table: to.name, to: to.key, ...(to.schema !== undefined && { schema: to.schema }) }
          : reference
      }),
    }))
    return { dialect: 'postgresql', tables: [...leading, ...people.flat()] }
  })

/** What SQLite can hold in a column of any type. */
const HELD = ['7, roles: [globalThis.process]', '7n }, other: { id: 8', "it's", '\\', '`${x}`\n', '7', 7, 7n]

/** Runs the files as they were written, one after another. */
function run(files: Readonly<Record<string, string>>) {
  const code = [...['model', 'caller', 'rules'].map((each) => `access/${each}.ts`), 'pachter.config.ts']
    .map((file) => files[file] as string)
    .map((text) =>
      text
        .replaceAll(/^import .*$/gm, '')
        .replace('export const', 'const')
        .replace('export default', ''),
    )
  const called = { ...pachter, defineConfig: (config: object) => config }
  const names = Object.keys(called).filter((each) => code.join().includes(each)) as (keyof typeof called)[]
  const whole = code.with(-1, `return ${code.at(-1)?.trimStart()}`).join('\n')
  return new Function(...names, `'use strict'; ${whole}`)(...names.map((each) => called[each])) as {
    readonly rules: pachter.Rulebook
    readonly callers: Readonly<Record<string, object>>
  }
}

describe('adopt, of any database', () => {
  it('writes files that load, that are of one mind with it, and that let nobody in but by a tie', async () => {
    await fc.assert(
      fc.asyncProperty(catalogue, fc.constantFrom(...HELD), async (drawn, value) => {
        const store = { dialect: postgresql, query: async () => ({ rows: [{ v0: value, v1: value }], touched: 0 }) }
        const { files, left } = await adopt(store, { folder: 'access' }, drawn)
        const { rules, callers } = run(files)
        const { model, tables } = rules
        for (const known of Object.values(callers).flatMap((each) => ('anonymous' in each ? [] : Object.values(each))))
          expect(String(known)).to.equal(String(value))
        expect(driftOf(model, drawn, drawn)).to.deep.equal([])
        for (const [called, { grants }] of Object.entries(tables)) {
          for (const grant of Object.values(grants).flat()) {
            for (const who of grant.to) expect(who, called).to.be.a('string')
            expect(grant.fields ?? [], called).not.to.include.members(['password'])
          }
          const isSecret = model.tables[called]?.fields['password'] !== undefined
          if (isSecret) for (const grant of grants['read'] ?? []) expect(grant.fields).to.be.an('array')
        }
        // Each table and column is in the model, or said to be left out.
        const stored = Object.values(model.tables).reduce((sum, { fields }) => sum + Object.keys(fields).length, 0)
        const whole = drawn.tables.filter(
          (each) =>
            !left.some(({ what }) => what === (each.schema === undefined ? each.name : `${each.schema}.${each.name}`)),
        )
        const columns = whole.reduce((sum, each) => sum + each.columns.length, 0)
        expect(stored + left.length - (drawn.tables.length - whole.length)).to.equal(columns)
      }),
      { numRuns: Number(process.env['PACHTER_CATALOGUES'] ?? 300) },
    )
  })
})
