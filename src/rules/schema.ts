/** The part of JSON Schema (draft 2020-12) that describes a rulebook, and that {@link matches} reads. */
export interface JsonSchema {
  readonly $ref?: string
  readonly type?: 'object' | 'array' | 'string' | 'integer' | 'number' | 'boolean'
  readonly const?: unknown
  readonly enum?: readonly unknown[]
  readonly anyOf?: readonly JsonSchema[]
  readonly properties?: Readonly<Record<string, JsonSchema>>
  readonly required?: readonly string[]
  readonly additionalProperties?: JsonSchema | false
  readonly items?: JsonSchema
  readonly minItems?: number
  readonly maxItems?: number
}

const text: JsonSchema = { type: 'string' }
const texts: JsonSchema = { type: 'array', items: text }
const ref = (name: string): JsonSchema => ({ $ref: `#/$defs/${name}` })
const listOf = (items: JsonSchema): JsonSchema => ({ type: 'array', items })
const recordOf = (additionalProperties: JsonSchema): JsonSchema => ({ type: 'object', additionalProperties })
const level: JsonSchema = { type: 'integer' }

/** An object with these properties and no others; those with `?` behind their name may be left out. */
function object(properties: Readonly<Record<string, JsonSchema>>): JsonSchema {
  const names = Object.keys(properties)
  return {
    type: 'object',
    properties: Object.fromEntries(names.map((name) => [name.replace('?', ''), properties[name] as JsonSchema])),
    required: names.filter((name) => !name.endsWith('?')),
    additionalProperties: false,
  }
}

const kind = (name: string, properties: Readonly<Record<string, JsonSchema>> = {}): JsonSchema =>
  object({ kind: { const: name }, ...properties })

const condition = ref('condition')
const operand = ref('operand')
const who: JsonSchema = { anyOf: [text, condition] }

const shape: Readonly<Record<string, JsonSchema>> = {
  type: { enum: ['text', 'integer', 'bigInteger', 'decimal', 'boolean', 'timestamp', 'choice', 'list'] },
  'choices?': texts,
  'item?': { enum: ['text', 'integer'] },
  'scale?': { type: 'integer' },
}

/** What a rulebook file looks like, as JSON Schema. Published as `pachter/rulebook.schema.json`. */
export const rulebookSchema: JsonSchema & {
  readonly $schema: string
  readonly title: string
  readonly $defs: Readonly<Record<string, JsonSchema>>
} = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'A rulebook of Pachter, version 1',
  ...object({
    format: { const: 'pachter-rulebook' },
    version: { const: 1 },
    model: object({ tables: recordOf(object({ key: texts, fields: recordOf(ref('field')) })) }),
    caller: object({
      attributes: recordOf(ref('field')),
      roles: texts,
      implies: recordOf(texts),
      standings: recordOf(texts),
      channels: texts,
      'record?': object({ table: text, roles: text }),
    }),
    tables: recordOf(ref('tableRules')),
  }),
  $defs: {
    field: object({
      ...shape,
      'optional?': { const: true },
      'key?': { const: true },
      'unique?': { const: true },
      'generated?': { const: true },
      'references?': text,
    }),
    tableRules: object({
      actions: texts,
      ties: recordOf(condition),
      grants: recordOf(listOf(object({ to: listOf(who), 'fields?': texts, 'when?': condition, 'after?': condition }))),
      denies: recordOf(object({ on: texts, when: condition, except: listOf(who), message: text })),
      stamps: recordOf(recordOf(operand)),
      'conflicts?': { const: 'told' },
      checks: object({
        fields: recordOf(
          object({
            'onCreate?': { const: 'required' },
            'onUpdate?': { const: 'forbidden' },
            'length?': { type: 'array', items: { type: 'integer' }, minItems: 2, maxItems: 2 },
            'range?': { type: 'array', items: { anyOf: [text, { type: 'number' }] }, minItems: 2, maxItems: 2 },
            'pattern?': text,
          }),
        ),
        records: recordOf(object({ that: condition, message: text, fields: texts })),
      }),
    }),
    operand: {
      anyOf: [
        kind('field', { level, name: text }),
        kind('old', { name: text }),
        kind('caller', { name: text }),
        kind('value', { shape: object(shape), value: ref('value') }),
        kind('now', { plusSeconds: { type: 'number' } }),
      ],
    },
    value: {
      anyOf: [text, { type: 'number' }, { type: 'boolean' }, listOf({ anyOf: [text, { type: 'number' }] })],
    },
    condition: {
      anyOf: [
        kind('always'),
        kind('never'),
        kind('all', { of: listOf(condition) }),
        kind('any', { of: listOf(condition) }),
        kind('not', { of: condition }),
        kind('after', { of: condition }),
        kind('unchanged', { field: text }),
        kind('isSet', { operand }),
        kind('signedIn'),
        kind('role', { anyOf: texts, 'standing?': text }),
        kind('channel', { anyOf: texts }),
        kind('may', { level, table: text, action: text }),
        kind('compare', {
          how: { enum: ['is', 'below', 'atMost', 'above', 'atLeast', 'startsWith', 'in', 'overlaps', 'includesAll'] },
          left: operand,
          right: operand,
        }),
        kind('some', {
          relation: text,
          table: text,
          from: operand,
          to: object({ level, field: text }),
          one: { type: 'boolean' },
          where: condition,
        }),
      ],
    },
  },
}
