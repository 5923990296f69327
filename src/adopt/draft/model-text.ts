import { conventional, type FieldData } from '../../model/index.js'
import type { Draft, DraftField, DraftTable } from './draft.js'
import { placeOf } from './kept.js'

/** A word as TypeScript quotes it. */
export const quoted = (text: string): string =>
  /['\\\n\r\u2028\u2029]/.test(text) ? JSON.stringify(text) : `'${text}'`

/** What is said in a line of its own; whatever the database calls things, it stays a line. */
export const comment = (text: string): string => `// ${text.replace(/[\s\p{C}]+/gu, ' ')}`

/** What is said behind a line. */
export const remark = (remarks: readonly string[]): string =>
  remarks.length > 0 ? ` ${comment(remarks.join('; '))}` : ''

/** The builder of a field, as a person would write it. */
export function builderOf({ type, choices = [], scale, item = 'text', references }: FieldData): string {
  if (references !== undefined) return `references(${quoted(references)})`
  if (type === 'choice') return `choice(${choices.map(quoted).join(', ')})`
  if (type === 'decimal') return `decimal(${scale})`
  return type === 'list' ? `list(${item}())` : `${type}()`
}

function fieldLine(field: DraftField, naming: Draft['naming']): string {
  const { name, column, data } = field
  const marks = [
    data.key ? '.key()' : '',
    data.generated ? '.generated()' : '',
    data.optional ? '.optional()' : '',
    data.unique ? `.unique(${data.unique === true ? '' : data.unique.map(quoted).join(', ')})` : '',
    data.filled === 'default' ? '.defaulted()' : data.filled === 'computed' ? '.computed()' : '',
    conventional(naming, name) === column ? '' : `.storedAs(${quoted(column)})`,
  ]
  return `      ${name}: ${builderOf(data)}${marks.join('')},${remark(field.remarks)}`
}

function tableLines({ naming, left }: Draft, table: DraftTable): readonly string[] {
  const missing = left.filter(({ what }) => what.startsWith(`${placeOf(table.stored)}.`))
  return [
    ...table.remarks.map((each) => `    ${comment(`${table.stored.name} ${each}`)}`),
    `    ${table.name}: {`,
    ...table.fields.map((field) => fieldLine(field, naming)),
    ...missing.map(
      ({ what, why }) => `      ${comment(`${what.slice(placeOf(table.stored).length + 1)} is left out: it ${why}`)}`,
    ),
    '    },',
  ]
}

function placeLine(naming: Draft['naming'], { name, stored }: DraftTable): readonly string[] {
  const { schema } = stored
  const own = conventional(naming, name) === stored.name
  if (own && schema === undefined) return []
  const place = [
    ...(schema === undefined ? [] : [`schema: ${quoted(schema)}`]),
    ...(own ? [] : [`name: ${quoted(stored.name)}`]),
  ]
  return [`      ${name}: ${schema === undefined ? quoted(stored.name) : `{ ${place.join(', ')} }`},`]
}

/** The model as TypeScript. */
export function modelText(draft: Draft): string {
  const { naming, tables, left } = draft
  const called = new Set(
    tables.flatMap(({ fields }) =>
      fields.flatMap(({ data }) => {
        const builder = builderOf(data)
        return [builder.replace(/\(.*/, ''), ...(builder.startsWith('list(') ? [data.item ?? 'text'] : [])]
      }),
    ),
  )
  const whole = left.filter(({ what }) => !tables.some(({ stored }) => what.startsWith(`${placeOf(stored)}.`)))
  const places = tables.flatMap((table) => placeLine(naming, table))
  const storage = [
    ...(naming === 'asWritten' ? [] : [`    naming: ${quoted(naming)},`]),
    ...(places.length > 0 ? ['    tables: {', ...places, '    },'] : []),
  ]
  return [
    `import { ${['defineModel', ...called].sort().join(', ')} } from 'pachter'`,
    '',
    '/** What the database has, as rules and records call it. `pachter adopt` keeps up with the database, and keeps what you change. */',
    'export const model = defineModel(',
    '  {',
    ...tables.flatMap((table) => tableLines(draft, table)),
    ...whole.map(({ what, why }) => `    ${comment(`${what} is left out: it ${why}`)}`),
    '  },',
    ...(storage.length > 0 ? ['  {', ...storage, '  },'] : []),
    ')',
    '',
  ].join('\n')
}
