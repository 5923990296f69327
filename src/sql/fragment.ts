import type { Operand } from '../condition/index.js'
import type { Shape } from '../model/index.js'

/** A place in a statement for a value: of the caller, the rules, the clock, or given with the request. */
export interface Slot {
  readonly shape: Shape
  /** Of a moment, to the millisecond: the first or the last that a finer clock of the database has in it. */
  readonly edge?: 'first' | 'last'
  readonly source:
    Exclude<Operand, { kind: 'field' | 'old' | 'given' }> | { readonly kind: 'given'; readonly name: string }
}

/** A piece of SQL: text that came from code or the model, and slots. Values never become text. */
export interface Fragment {
  readonly pieces: readonly (string | Slot)[]
}

/**
 * Writes a fragment; only fragments can be put in, so that no value ends up in the text by accident.
 *
 * @example sql`${column} = ${slot}`
 */
export function sql(strings: TemplateStringsArray, ...parts: readonly Fragment[]): Fragment {
  return { pieces: strings.flatMap((text, at) => [text, ...(parts[at]?.pieces ?? [])]) }
}

/** Text of our own or from the model as a fragment. */
export const raw = (text: string): Fragment => ({ pieces: [text] })

/** A slot as a fragment. */
export const slot = (source: Slot['source'], shape: Shape): Fragment => ({ pieces: [{ source, shape }] })

/** Fragments with a separator between them. */
export function join(fragments: readonly Fragment[], separator: string): Fragment {
  return { pieces: fragments.flatMap(({ pieces }, at) => (at === 0 ? pieces : [separator, ...pieces])) }
}

/** Whether a fragment is a value alone. */
export const isSlot = ({ pieces }: Fragment): boolean => pieces.length === 1 && typeof pieces[0] !== 'string'

/** The first or the last that a database has in the millisecond of a value. */
export const edgeOf = ({ pieces }: Fragment, edge: 'first' | 'last'): Fragment => ({
  pieces: pieces.map((piece) => (typeof piece === 'string' ? piece : { ...piece, edge })),
})
