import { COMPARISONS, GRAMMAR } from '../condition/index.js'
import { FIELD_TYPES, ITEM_TYPES } from '../model/index.js'

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

interface RulebookSchema extends JsonSchema {
  readonly $schema: string
  readonly title: string
  readonly $defs: Readonly<Record<string, JsonSchema>>
}

/**
 * What a rulebook file looks like, as JSON Schema. Published as `pachter/rulebook.schema.json`. Marked as pure, it stays out
 * of pages that read no such file.
 */
export const rulebookSchema: RulebookSchema = /* @__PURE__ */ describeRulebook()

function describeRulebook(): RulebookSchema {
  const condition = ref('condition')
  const operand = ref('operand')
  const who: JsonSchema = { anyOf: [text, condition] }

  /** What a piece of a condition looks like in a file. */
  const PIECES: Readonly<Record<string, JsonSchema>> = {
    condition,
    conditions: listOf(condition),
    operand,
    step: object({ level, field: text }),
    level,
    comparison: { enum: COMPARISONS },
    text,
    texts,
    flag: { type: 'boolean' },
  }

  const shape: Readonly<Record<string, JsonSchema>> = {
    type: { enum: FIELD_TYPES },
    'choices?': texts,
    'item?': { enum: ITEM_TYPES },
    'scale?': { type: 'integer' },
  }

  return {
    $schema: 'https://json-schema.org/draft/2020-12/schema',
    title: 'A rulebook of Pachter, version 1',
    ...object({
      format: { const: 'pachter-rulebook' },
      version: { const: 1 },
      model: object({
        tables: recordOf(
          object({
            key: texts,
            fields: recordOf(ref('field')),
            'stored?': object({ 'schema?': text, 'name?': text }),
          }),
        ),
      }),
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
        'unique?': {
          anyOf: [
            { type: 'boolean', const: true },
            { ...texts, minItems: 1 },
          ],
        },
        'generated?': { const: true },
        'filled?': { enum: ['default', 'computed'] },
        'references?': text,
        'stored?': text,
      }),
      tableRules: object({
        actions: texts,
        ties: recordOf(condition),
        grants: recordOf(
          listOf(
            object({
              to: listOf(who),
              'fields?': texts,
              'when?': condition,
              'after?': condition,
              'gone?': { const: true },
            }),
          ),
        ),
        denies: recordOf(object({ on: texts, when: condition, except: listOf(who), message: text })),
        stamps: recordOf(recordOf(operand)),
        'conflicts?': { const: 'told' },
        'fence?': condition,
        'gone?': object({ when: condition, 'onDelete?': recordOf(operand) }),
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
        anyOf: Object.entries(GRAMMAR).map(([name, pieces]) =>
          kind(
            name,
            Object.fromEntries(
              Object.entries(pieces).map(([property, piece]) => {
                const called = piece.endsWith('?') ? `${property}?` : property
                return [called, PIECES[piece.replace('?', '')] as JsonSchema]
              }),
            ),
          ),
        ),
      },
    },
  }
}
