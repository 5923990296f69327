import { RuleError } from '../condition/index.js'
import { checkModel, deepFreeze, inFull, LIMITS, PachterError, show } from '../model/index.js'
import { checkRulebook } from './check.js'
import { noteChecked } from './checked.js'
import type { Rules } from './rules.js'
import { type JsonSchema, rulebookSchema } from './schema.js'

/** Rules nest; a file that nests deeper than any person would write is damaged or hostile. */
const DEEPEST = 200

/** A rulebook file cannot be used: it is no JSON, not of this format, damaged, or newer than this version reads. */
export class RulebookError extends PachterError {
  readonly code = 'rulebook-invalid'

  constructor(
    /** Where in the file, such as `tables.entries.ties.author`. */
    readonly place: string,
    problem: string,
    options?: ErrorOptions,
  ) {
    super(`This rulebook cannot be used: ${place === '' ? '' : `${place} `}${problem}`, options)
  }
}

/**
 * Reads a rulebook back from JSON and checks it: its shape, then every name and type in it against its own model.
 *
 * @param json the text of a rulebook file, or what `JSON.parse` made of it
 * @returns the rulebook, frozen; equal to the one that was written
 * @throws {RulebookError} with the place of the first thing wrong
 * @example const rules = readRulebook(await readFile('rulebook.json', 'utf8'))
 */
export function readRulebook(json: unknown): Rules {
  // What is checked is what is used: a copy, which whoever handed it over cannot change.
  const data = typeof json === 'string' ? parse(json) : copied(json)
  const { format, version } = (typeof data === 'object' && data !== null ? data : {}) as Record<string, unknown>
  if (format !== 'pachter-rulebook')
    throw new RulebookError('', "is not a rulebook: its format is not 'pachter-rulebook'.")
  if (typeof version === 'number' && version > 1) {
    throw new RulebookError('', `is of version ${version}, and this version of pachter reads up to 1; update pachter.`)
  }
  matches(rulebookSchema, data, [])
  const rulebook = data as Rules
  try {
    checkModel(rulebook.model)
    checkRulebook(rulebook)
  } catch (error) {
    if (error instanceof PachterError)
      throw new RulebookError('', `does not fit together. ${inFull(error)}`, { cause: error })
    throw error
  }
  return noteChecked(deepFreeze(rulebook))
}

function copied(json: unknown): unknown {
  try {
    return structuredClone(json)
  } catch (error) {
    throw new RulebookError('', `is not plain data: ${(error as Error).message}`, { cause: error })
  }
}

function parse(text: string): unknown {
  if (text.length > LIMITS.rulebookCharacters) {
    throw new RulebookError('', `is longer than ${LIMITS.rulebookCharacters} characters.`)
  }
  try {
    return JSON.parse(text)
  } catch (error) {
    throw new RulebookError('', `is not JSON: ${(error as Error).message}`, { cause: error })
  }
}

/** Where in the file something stands: names and positions, from the outside in. One array serves for all. */
type Place = (string | number)[]

const printPlace = (place: Place): string =>
  place.map((name, at) => (typeof name === 'number' ? `[${name}]` : at === 0 ? name : `.${name}`)).join('')

const wrong = (place: Place, problem: string): RulebookError => new RulebookError(printPlace(place), problem)

/** Checks data against a schema; throws with the place of what does not match. */
function matches(schema: JsonSchema, data: unknown, place: Place): void {
  if (place.length > DEEPEST) throw wrong(place, `nests deeper than ${DEEPEST} levels.`)
  if (schema.$ref) return matches(definition(schema.$ref), data, place)
  if (schema.anyOf) return matches(chooseBranch(schema.anyOf, data, place), data, place)
  if ('const' in schema && data !== schema.const) throw wrong(place, `must be ${JSON.stringify(schema.const)}.`)
  if (schema.enum && !schema.enum.includes(data)) {
    throw wrong(place, `is ${show(data)}; it must be one of ${schema.enum.join(', ')}.`)
  }
  if (schema.type && !isOfType(schema.type, data))
    throw wrong(place, `must be ${schema.type}, and is ${typeName(data)}.`)
  if (schema.type === 'array') matchesItems(schema, data as readonly unknown[], place)
  if (schema.type === 'object') matchesProperties(schema, data as Readonly<Record<string, unknown>>, place)
}

function matchesInside(schema: JsonSchema, data: unknown, place: Place, name: string | number): void {
  place.push(name)
  matches(schema, data, place)
  place.pop()
}

function matchesItems(schema: JsonSchema, data: readonly unknown[], place: Place): void {
  const { items = {}, minItems = 0, maxItems = Infinity } = schema
  if (data.length < minItems || data.length > maxItems) throw wrong(place, `has ${data.length} items.`)
  for (let at = 0; at < data.length; at += 1) matchesInside(items, data[at], place, at)
}

function matchesProperties(schema: JsonSchema, data: Readonly<Record<string, unknown>>, place: Place): void {
  const { properties = {}, required = [], additionalProperties } = schema
  for (const name of required) {
    if (!Object.hasOwn(data, name)) throw wrong(place, `has no ${name}.`)
  }
  for (const name of Object.keys(data)) {
    const inner = Object.hasOwn(properties, name) ? properties[name] : additionalProperties
    if (!inner || name === '__proto__') throw wrong([...place, name], 'is not known here.')
    matchesInside(inner, data[name], place, name)
  }
}

/** The branches of an `anyOf`, by the `kind` of what they describe or by its type. */
const branchesOf = new WeakMap<readonly JsonSchema[], ReadonlyMap<unknown, JsonSchema>>()

function indexBranches(branches: readonly JsonSchema[]): ReadonlyMap<unknown, JsonSchema> {
  const resolved = branches.flatMap((each) => (each.$ref ? (definition(each.$ref).anyOf ?? [each]) : [each]))
  const index = new Map(resolved.map((each) => [each.properties?.['kind']?.const ?? each.type, each]))
  branchesOf.set(branches, index)
  return index
}

/** Chooses the branch that was meant, so that an error is about that one. */
function chooseBranch(branches: readonly JsonSchema[], data: unknown, place: Place): JsonSchema {
  const index = branchesOf.get(branches) ?? indexBranches(branches)
  const type = typeName(data)
  const kind = type === 'object' ? (data as { kind?: unknown }).kind : undefined
  const chosen = index.get(kind ?? type) ?? (type === 'integer' ? index.get('number') : undefined)
  if (chosen) return chosen
  const given = kind === undefined ? type : show(kind)
  throw wrong(place, `is ${given}; it must be one of ${[...index.keys()].join(', ')}.`)
}

function definition(ref: string): JsonSchema {
  const found = rulebookSchema.$defs[ref.slice('#/$defs/'.length)]
  if (!found) throw new RuleError(`The schema refers to ${ref}, which it does not have.`)
  return found
}

function isOfType(type: JsonSchema['type'], data: unknown): boolean {
  const name = typeName(data)
  return name === type || (type === 'number' && name === 'integer')
}

function typeName(data: unknown): string {
  if (data === null) return 'null'
  if (Array.isArray(data)) return 'array'
  return Number.isInteger(data) ? 'integer' : typeof data
}
