import type { Draft } from '../draft/draft.js'
import { builderOf, comment, quoted, remark } from '../draft/model-text.js'
import type { Proposal, Stamps, SuggestedGrant, TableProposal } from './proposal.js'

/** First rules as TypeScript, each with what suggested it. */
export function rulesText(proposal: Proposal): string {
  const { organisation } = proposal
  const fence = organisation
    ? [
        '  {',
        `    // ${organisation.table}: every record belongs to one, and so does every caller.`,
        `    fence: { field: ${quoted(organisation.field)}, is: ${quoted(organisation.field)}${outside(organisation.outside)} },`,
        '  },',
      ]
    : []
  return [
    "import { defineRules } from 'pachter'",
    "import { caller } from './caller.js'",
    "import { model } from './model.js'",
    '',
    '/** Who may do what: a proposal, from what tables and columns are called. Read it through; what is not granted is closed. */',
    'export const rules = defineRules(',
    '  model,',
    '  caller,',
    '  {',
    ...proposal.tables.flatMap(tableLines).slice(0, -1),
    '  },',
    ...fence,
    ')',
    '',
  ].join('\n')
}

const outside = (tables: readonly string[]): string =>
  tables.length > 0 ? `, outside: [${tables.map(quoted).join(', ')}]` : ''

function tableLines(proposed: TableProposal): readonly string[] {
  const { table, ties, grants, stamps, gone, fence, remarks } = proposed
  const said = remarks.map((each) => `    ${comment(`${table.name}: ${each}`)}`)
  const body = [
    ...(ties.length > 0
      ? [
          '        .ties({',
          ...ties.map(({ name, that, because }) => `          ${name}: ${that},${remark([because])}`),
          '        })',
        ]
      : []),
    ...(grants.length > 0 ? ['        .grants({', ...grantLines(grants), '        })'] : []),
    ...stampLines(stamps),
    ...(gone
      ? [`        .gone(${gone.when}${gone.set ? `, { onDelete: ${gone.set} }` : ''})${remark([gone.because])}`]
      : []),
    ...(fence ? [`        .fence(${fence.that})${remark([fence.because])}`] : []),
  ]
  if (body.length === 0) return [...said, '']
  const used = ['row', 'caller', 'now'].filter((name) =>
    body.some((line) => new RegExp(`\\b${name}\\b`).test(bare(line))),
  )
  return [...said, `    ${table.name}: ({ ${[...used, 'table'].join(', ')} }) =>`, '      table', ...closed(body), '']
}

/** A line without what is said behind it. */
const bare = (line: string): string => line.replace(/\/\/.*$/, '').replace(/'[^']*'/g, '')

/** The end of a function's body: a comma, before what is said behind the line. */
function closed(lines: readonly string[]): readonly string[] {
  const [last = ''] = lines.slice(-1)
  const at = last.indexOf(' // ')
  return [...lines.slice(0, -1), at < 0 ? `${last},` : `${last.slice(0, at)},${last.slice(at)}`]
}

function grantLines(grants: readonly SuggestedGrant[]): readonly string[] {
  const actions = [...new Set(grants.map(({ action }) => action))]
  return actions.flatMap((action) => {
    const all = grants.filter((grant) => grant.action === action)
    const [only] = all
    if (all.length === 1 && only && !only.fields) return [`          ${action}: [${only.to.map(quoted).join(', ')}],`]
    return [
      `          ${action}: [`,
      ...all.flatMap(({ to, fields = [] }) => fieldLines(`            { to: ${list(to)}, fields: [`, fields)),
      '          ],',
    ]
  })
}

/** Fields on as many lines as they take. */
function fieldLines(before: string, fields: readonly string[]): readonly string[] {
  const lines: string[] = []
  for (const name of fields.map(quoted)) {
    const last = lines.at(-1)
    if (last === undefined || last.length + name.length > 90) lines.push(name)
    else lines[lines.length - 1] = `${last}, ${name}`
  }
  if (lines.length < 2) return [`${before}${lines.join('')}] },`]
  return [before, ...lines.map((line) => `              ${line},`), '            ] },']
}

const list = (names: readonly string[]): string =>
  names.length === 1 ? quoted(names[0] as string) : `[${names.map(quoted).join(', ')}]`

function stampLines({ create, update }: TableProposal['stamps']): readonly string[] {
  const written = (stamps: Stamps) =>
    Object.entries(stamps)
      .map(([name, value]) => `${name}: ${value}`)
      .join(', ')
  const parts = Object.entries({ create, update }).filter(([, stamps]) => Object.keys(stamps).length > 0)
  if (parts.length === 0) return []
  return [`        .stamps({ ${parts.map(([action, stamps]) => `${action}: { ${written(stamps)} }`).join(', ')} })`]
}

/** What callers look like, as TypeScript. */
export function callerText(draft: Draft, { people, organisation, roles }: Proposal): string {
  const typeOf = (table: string | undefined): string => {
    const key = draft.tables.find(({ name }) => name === table)?.fields.find(({ data }) => data.key)
    if (!key) return 'text()'
    return key.data.references === undefined ? builderOf(key.data) : typeOf(key.data.references)
  }
  const id = typeOf(people?.name)
  const own = organisation && typeOf(organisation.table)
  const attributes = [
    `    id: ${id},${people ? ` // the key of ${people.name}` : ' // no table looks like that of the people who sign in'}`,
    ...(organisation && own ? [`    ${organisation.field}: ${own}.optional(), // what each sees ends with it`] : []),
  ]
  const called = [id, ...(own ? [own] : [])].map((builder) => builder.replace(/\(.*/, ''))
  const builders = ['defineCaller', ...new Set(called)].sort()
  return [
    `import { ${builders.join(', ')} } from 'pachter'`,
    '',
    '/** Who asks: what your application knows of whoever has signed in. */',
    'export const caller = defineCaller(',
    '  {',
    ...attributes,
    '  },',
    `  { roles: [${roles.map(quoted).join(', ')}] },`,
    ')',
    '',
  ].join('\n')
}
