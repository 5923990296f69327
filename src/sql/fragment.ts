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

/** Marks a statement as one that not every database runs as it is: which needs what, its dialect says. */
export interface Need {
  readonly need: 'lists' | 'chains' | 'strict' | 'utc'
}

/** A piece of SQL: text that came from code or the model, slots, and fragments in their turn. Values never become text. */
export interface Fragment {
  readonly pieces: readonly (string | Slot | Need | Fragment)[]
}

/**
 * Writes a fragment; only fragments can be put in, so that no value ends up in the text by accident.
 *
 * @example sql`${column} = ${slot}`
 */
export function sql(strings: TemplateStringsArray, ...parts: readonly Fragment[]): Fragment {
  const pieces: (string | Fragment)[] = []
  for (const [at, text] of strings.entries()) {
    if (text !== '') pieces.push(text)
    const part = parts[at]
    if (part) pieces.push(part)
  }
  return { pieces }
}

/** Text of our own or from the model as a fragment. */
export const raw = (text: string): Fragment => ({ pieces: [text] })

/** A slot as a fragment. */
export const slot = (source: Slot['source'], shape: Shape): Fragment => ({ pieces: [{ source, shape }] })

/** What the statement around it needs; nothing is written for it in its place. */
export const needs = (need: Need['need']): Fragment => ({ pieces: [{ need }] })

/** A text of our own or of the model as a value. */
export const textSlot = (value: string): Fragment =>
  slot({ kind: 'value', shape: { type: 'text' }, value }, { type: 'text' })

/** Fragments with a separator between them. */
export function join(fragments: readonly Fragment[], separator: string): Fragment {
  const pieces: (string | Fragment)[] = []
  for (const [at, fragment] of fragments.entries()) {
    if (at > 0) pieces.push(separator)
    pieces.push(fragment)
  }
  return { pieces }
}

/** Goes through the texts, slots and needs that a fragment is made of, in their order. */
export function eachPiece({ pieces }: Fragment, visit: (piece: string | Slot | Need) => void): void {
  for (const piece of pieces) {
    if (typeof piece === 'object' && 'pieces' in piece) eachPiece(piece, visit)
    else visit(piece)
  }
}

/** Whether a fragment is a value alone. */
export const isSlot = ({ pieces: [first, ...more] }: Fragment): boolean =>
  more.length === 0 && typeof first === 'object' && !('need' in first) && ('pieces' in first ? isSlot(first) : true)

/** The same with something else in place of each slot. */
export const withSlots = (fragment: Fragment, change: (slot: Slot) => Slot): Fragment => ({
  pieces: fragment.pieces.map((piece) => {
    if (typeof piece === 'string' || 'need' in piece) return piece
    return 'pieces' in piece ? withSlots(piece, change) : change(piece)
  }),
})

/** The first or the last that a database has in the millisecond of a value. */
export const edgeOf = (fragment: Fragment, edge: 'first' | 'last'): Fragment =>
  withSlots(fragment, (each) => ({ ...each, edge }))
