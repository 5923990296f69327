import type { Comparison } from './comparison.js'
import type { Condition, Operand } from './tree.js'

/** The kinds of conditions. */
export type Kind = Condition['kind']

/** A condition of one kind. */
export type ConditionOf<K extends Kind> = Extract<Condition, { readonly kind: K }>

/** What can stand in a condition. */
type Piece =
  | 'condition'
  | 'condition?'
  | 'conditions'
  | 'operand'
  | 'step'
  | 'level'
  | 'comparison'
  | 'text'
  | 'text?'
  | 'texts'
  | 'flag'

type PieceFor<V> = [V] extends [Condition]
  ? 'condition'
  : [V] extends [readonly Condition[]]
    ? 'conditions'
    : [V] extends [Operand]
      ? 'operand'
      : [V] extends [readonly string[]]
        ? 'texts'
        : [V] extends [Comparison]
          ? 'comparison'
          : [V] extends [string]
            ? 'text'
            : [V] extends [string | undefined]
              ? 'text?'
              : [V] extends [Condition | undefined]
                ? 'condition?'
                : [V] extends [number]
                  ? 'level'
                  : [V] extends [boolean]
                    ? 'flag'
                    : 'step'

type Grammar = {
  readonly [K in Kind]: {
    readonly [P in Exclude<keyof ConditionOf<K>, 'kind'>]-?: PieceFor<ConditionOf<K>[P]>
  }
}

/**
 * What stands where in each kind of condition: everything that goes through conditions or rebuilds them reads it here, and
 * so does the schema of rulebook files. A kind that is not here does not compile.
 */
export const GRAMMAR: Grammar = {
  always: {},
  never: {},
  all: { of: 'conditions' },
  any: { of: 'conditions' },
  not: { of: 'condition' },
  after: { of: 'condition' },
  unchanged: { field: 'text' },
  isSet: { operand: 'operand' },
  signedIn: {},
  role: { anyOf: 'texts', standing: 'text?' },
  channel: { anyOf: 'texts' },
  may: { level: 'level', table: 'text', action: 'text' },
  compare: { how: 'comparison', left: 'operand', right: 'operand' },
  some: {
    relation: 'text',
    table: 'text',
    from: 'operand',
    to: 'step',
    one: 'flag',
    where: 'condition',
    chain: 'text?',
    through: 'condition?',
  },
}

/** Who answers a condition of a kind: the caller or the way the request came, whatever the record; a record; or its parts. */
const ANSWERED_BY: Readonly<Record<Kind, 'nobody' | 'caller' | 'request' | 'record' | 'parts'>> = {
  always: 'nobody',
  never: 'nobody',
  all: 'parts',
  any: 'parts',
  not: 'parts',
  after: 'record',
  unchanged: 'record',
  isSet: 'record',
  signedIn: 'caller',
  role: 'caller',
  channel: 'request',
  may: 'record',
  compare: 'record',
  some: 'record',
}

/** Where in each kind of condition these pieces stand. */
function placesOf(...wanted: readonly Piece[]): (kind: Kind) => readonly string[] {
  const places = new Map<Kind, readonly string[]>()
  for (const [kind, grammar] of Object.entries(GRAMMAR)) {
    const names = Object.entries(grammar).filter(([, piece]) => wanted.includes(piece))
    places.set(
      kind as Kind,
      names.map(([name]) => name),
    )
  }
  return (kind) => places.get(kind) as readonly string[]
}

const [placesOfParts, placesOfOperands] = [placesOf('condition', 'condition?', 'conditions'), placesOf('operand')]

/** What stands there in a condition. */
const piecesAt = (condition: Condition, places: readonly string[]): readonly unknown[] =>
  places.map((name) => (condition as unknown as Readonly<Record<string, unknown>>)[name])

/** The conditions directly inside this one. */
export const partsOf = (condition: Condition): readonly Condition[] =>
  (piecesAt(condition, placesOfParts(condition.kind)) as readonly (Condition | readonly Condition[] | undefined)[])
    .flat()
    .filter((part): part is Condition => part !== undefined)

/** The operands directly inside this condition. */
export const operandsOf = (condition: Condition): readonly Operand[] =>
  piecesAt(condition, placesOfOperands(condition.kind)) as readonly Operand[]

/** Whether the condition or any part of it passes the test. */
export function contains(condition: Condition, test: (part: Condition) => boolean): boolean {
  return test(condition) || partsOf(condition).some((part) => contains(part, test))
}

/** How many parts a condition has; of one with more than so many, only that it has. */
export function sizeOf(condition: Condition, most = Infinity): number {
  let parts = 0
  contains(condition, () => (parts += 1) > most)
  return parts
}

/** Whether a condition inside a `some` looks at records outside it. */
export function refersOutside(where: Condition, level: number): boolean {
  return contains(
    where,
    (part) =>
      part.kind === 'after' ||
      part.kind === 'unchanged' ||
      operandsOf(part).some((operand) => operand.kind === 'old' || (operand.kind === 'field' && operand.level < level)),
  )
}

/** What a condition is rebuilt with; what is left out stays as it is. */
export interface Rewriting {
  /** For each condition directly inside, in their order. */
  readonly part?: (part: Condition, at: number) => Condition
  /** For each operand directly inside. */
  readonly operand?: (operand: Operand) => Operand
  /** For the level that a step leads to, or that a condition is about. */
  readonly level?: (level: number) => number
}

/** The same condition with other things directly inside it. */
export function rewrite(condition: Condition, { part, operand, level }: Rewriting): Condition {
  const grammar: Readonly<Record<string, Piece>> = GRAMMAR[condition.kind]
  const now: Readonly<Record<string, unknown>> = { ...condition }
  const next: Record<string, unknown> = {}
  for (const name in grammar) {
    const piece = grammar[name]
    const value = now[name]
    if ((piece === 'condition' || (piece === 'condition?' && value !== undefined)) && part)
      next[name] = part(value as Condition, 0)
    else if (piece === 'conditions' && part) next[name] = (value as readonly Condition[]).map(part)
    else if (piece === 'operand' && operand) next[name] = operand(value as Operand)
    else if (piece === 'level' && level) next[name] = level(value as number)
    else if (piece === 'step' && level) {
      const step = value as { readonly level: number }
      next[name] = { ...step, level: level(step.level) }
    }
  }
  return { ...now, ...next } as unknown as Condition
}

/** Moves a condition about level 0 so that it is about a deeper level; its own steps go deeper with it. */
export function shift(condition: Condition, by: number): Condition {
  if (by === 0) return condition
  return rewrite(condition, {
    part: (part) => shift(part, by),
    operand: (each) => (each.kind === 'field' ? { ...each, level: each.level + by } : each),
    level: (level) => level + by,
  })
}

/** Whether the caller alone decides a condition. */
export function isAboutCaller(condition: Condition): boolean {
  const by = ANSWERED_BY[condition.kind]
  return by === 'parts' ? partsOf(condition).every(isAboutCaller) : by !== 'record'
}

/** Whether a condition asks anything of the caller. */
export const asksCaller = (condition: Condition): boolean =>
  contains(
    condition,
    (part) => ANSWERED_BY[part.kind] === 'caller' || operandsOf(part).some(({ kind }) => kind === 'caller'),
  )
