import { RuleError } from '../condition/index.js'
import { LIMITS } from '../model/index.js'

/** Whether a text matches a pattern somewhere. */
export type Matcher = (text: string) => boolean

/**
 * Compiles a pattern so that each character of a text is looked at once for each state of the pattern, and never again:
 * no text makes it take long. Characters and classes are read as JavaScript's `u` flag reads them, by JavaScript itself;
 * what is around them is followed in all ways at once.
 *
 * @param pattern the source of a regular expression
 * @throws {RuleError} where it is none, or asks what cannot be followed so: back references, and looking around
 * @see K. Thompson, Regular expression search algorithm, CACM 11(6), 1968
 * @example compilePattern('^[^@\\s]+@[^@\\s]+$')('ana@korenveld.example') // true
 */
export function compilePattern(pattern: string): Matcher {
  try {
    new RegExp(pattern, 'u')
  } catch (error) {
    throw new RuleError(`the pattern ${pattern} is none: ${(error as Error).message}`)
  }
  const known = matchers.get(pattern)
  if (known) return known
  const matcher = simulate(new Builder(pattern).build())
  if (matchers.size >= KEPT) matchers.clear()
  matchers.set(pattern, matcher)
  return matcher
}

const KEPT = 1_000
const matchers = new Map<string, Matcher>()

/** What has to be so at a place between two characters, given by those around it. */
type Assertion = (before: string | undefined, after: string | undefined) => boolean

/** A state: it takes a character and goes on, or goes on without one to several others. */
type State =
  | { readonly takes: (character: string) => boolean; to: number }
  | { readonly asks?: Assertion; readonly to: number[] }
  | { readonly accepts: true }

/** Part of a machine: where it starts, and the states that go on to whatever comes after it. */
interface Piece {
  readonly start: number
  readonly end: number
}

/** Reads a pattern from left to right; that it is one has been found out by JavaScript. */
class Builder {
  readonly #states: State[] = []
  #at = 0

  constructor(readonly pattern: string) {}

  build(): { readonly states: readonly State[]; readonly start: number } {
    const whole = this.#alternatives()
    this.#link(whole.end, this.#add({ accepts: true }))
    return { states: this.#states, start: whole.start }
  }

  #add(state: State): number {
    if (this.#states.length >= LIMITS.patternStates) {
      throw new RuleError(`the pattern ${this.pattern} is too large: it has more than ${LIMITS.patternStates} states.`)
    }
    return this.#states.push(state) - 1
  }

  /** A state that goes on without a character. */
  #pass(to: number[] = [], asks?: Assertion): number {
    return this.#add({ to, ...(asks && { asks }) })
  }

  #link(from: number, to: number): void {
    const state = this.#states[from] as State
    if ('takes' in state) state.to = to
    else if ('to' in state) state.to.push(to)
  }

  #alternatives(): Piece {
    const pieces = [this.#sequence()]
    while (this.#eat('|')) pieces.push(this.#sequence())
    const [only, ...more] = pieces as [Piece, ...Piece[]]
    if (more.length === 0) return only
    const end = this.#pass()
    for (const piece of pieces) this.#link(piece.end, end)
    return { start: this.#pass(pieces.map(({ start }) => start)), end }
  }

  #sequence(): Piece {
    const start = this.#pass()
    let end = start
    while (this.#at < this.pattern.length && !['|', ')'].includes(this.pattern[this.#at] as string)) {
      const piece = this.#repeated()
      this.#link(end, piece.start)
      end = piece.end
    }
    return { start, end }
  }

  /** An atom with what says how often: it is built anew for each time that has to be. */
  #repeated(): Piece {
    const from = this.#at
    const first = this.#atom()
    const [least, most] = this.#times()
    const after = this.#at
    if (least === 1 && most === 1) return first
    const start = this.#pass()
    let end = start
    const again = () => {
      this.#at = from
      return this.#atom()
    }
    for (let times = 0; times < least; times += 1) {
      const piece = times === 0 ? first : again()
      this.#link(end, piece.start)
      end = piece.end
    }
    const out = this.#pass()
    if (most === Infinity) {
      const piece = least === 0 ? first : again()
      const loop = this.#pass([piece.start, out])
      this.#link(end, loop)
      this.#link(piece.end, loop)
    } else {
      this.#link(end, out)
      for (let times = least; times < most; times += 1) {
        const piece = times === 0 ? first : again()
        this.#link(end, piece.start)
        this.#link(piece.end, out)
        end = piece.end
      }
    }
    this.#at = after
    return { start, end: out }
  }

  #times(): readonly [number, number] {
    const [whole = '', sign, least, comma, most] =
      /^(?:([*+?])|\{(\d+)(,)?(\d*)\})\??/.exec(this.pattern.slice(this.#at)) ?? []
    this.#at += whole.length
    if (whole === '') return [1, 1]
    if (sign !== undefined) return [sign === '+' ? 1 : 0, sign === '?' ? 1 : Infinity]
    return [Number(least), comma === undefined ? Number(least) : most === '' ? Infinity : Number(most)]
  }

  #atom(): Piece {
    if (this.#eat('(')) return this.#group()
    if (this.#eat('^')) return this.#assertion((before) => before === undefined)
    if (this.#eat('$')) return this.#assertion((_, after) => after === undefined)
    const [text = ''] = ATOM.exec(this.pattern.slice(this.#at)) ?? []
    this.#at += text.length
    if (text === '\\b') return this.#assertion((before, after) => isWord(before) !== isWord(after))
    if (text === '\\B') return this.#assertion((before, after) => isWord(before) === isWord(after))
    if (/^\\(?:[1-9]|k<)/.test(text)) this.#refuse('refers back to what it matched before')
    const character = new RegExp(`^(?:${text})$`, 'u')
    const state = this.#add({ takes: (each) => character.test(each), to: -1 })
    return { start: state, end: state }
  }

  #group(): Piece {
    const [opening = ''] = /^(?:\?(?:<(?![=!])[^>]*>|:))?/.exec(this.pattern.slice(this.#at)) ?? []
    this.#at += opening.length
    if (this.pattern[this.#at] === '?') this.#refuse('looks ahead or behind, or changes how it is read')
    const inside = this.#alternatives()
    this.#at += 1
    return inside
  }

  #assertion(asks: Assertion): Piece {
    const state = this.#pass([], asks)
    return { start: state, end: state }
  }

  #eat(character: string): boolean {
    if (this.pattern[this.#at] !== character) return false
    this.#at += 1
    return true
  }

  #refuse(what: string): never {
    throw new RuleError(`the pattern ${this.pattern} ${what}, which can take for ever; write a check on the record.`)
  }
}

/** One character as a pattern writes it: a class, an escape, or itself. */
const ATOM =
  /^(?:\[(?:\\.|[^\]\\])*\]|\\(?:u\{[^}]*\}|u[dD][89abAB][\da-fA-F]{2}\\u[dD][c-fC-F][\da-fA-F]{2}|u.{4}|x..|c.|[pP]\{[^}]*\}|k<[^>]*>|[1-9]\d*|.)|.)/su

const isWord = (character: string | undefined): boolean => character !== undefined && /^\w$/u.test(character)

function simulate({ states, start }: { readonly states: readonly State[]; readonly start: number }): Matcher {
  return (text) => {
    const characters = [...text]
    let current = new Set<number>()
    for (let at = 0; at <= characters.length; at += 1) {
      const [before, after] = [characters[at - 1], characters[at]]
      current.add(start)
      const reached = closure(states, current, before, after)
      if (reached === 'accepted') return true
      current = new Set()
      if (after === undefined) break
      for (const each of reached) {
        const state = states[each] as State
        if ('takes' in state && state.takes(after)) current.add(state.to)
      }
    }
    return false
  }
}

/** All states that can be reached without a character. */
function closure(
  states: readonly State[],
  from: ReadonlySet<number>,
  before: string | undefined,
  after: string | undefined,
): 'accepted' | ReadonlySet<number> {
  const reached = new Set(from)
  // A state that is added is come to in turn.
  for (const each of reached) {
    const state = states[each] as State
    if ('accepts' in state) return 'accepted'
    if ('takes' in state || (state.asks && !state.asks(before, after))) continue
    for (const next of state.to) reached.add(next)
  }
  return reached
}
