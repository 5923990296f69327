import { type Compare, compareValues, type Condition, type Operand } from '../condition/index.js'
import type { MemoryRecord } from './data.js'
import { Asked, unchangedIn } from './world.js'

/** A condition as code: what it asks of the world, and the test of a record once that is answered. */
export interface Generated {
  readonly asked: Asked
  bind(said: readonly unknown[]): (record: MemoryRecord) => boolean
}

/** The helpers that the code calls. */
type Helpers = readonly [compare: typeof compareValues, isUnchanged: typeof unchangedIn]

let canGenerate: boolean | undefined

/** Whether code may be made of text here; a content security policy can forbid it, and is asked once. */
function mayGenerate(): boolean {
  try {
    canGenerate ??= new Function('return true')() as boolean
  } catch {
    canGenerate = false
  }
  return canGenerate
}

/**
 * Writes a condition as a function: the engine then reads fields by their names, which makes a short test several times
 * faster than one put together of closures. Nothing but the names of fields, quoted, and numbers gets into the text.
 *
 * @returns nothing where no code can be generated
 */
export function generate(condition: Condition): Generated | undefined {
  if (!mayGenerate()) return undefined
  try {
    const asked = new Asked()
    return { asked, bind: new Writer(asked).write(condition, [compareValues, unchangedIn]) }
  } catch {
    // Too deep or too long for the engine: closures have no such limit.
    return undefined
  }
}

/** The names that records have in the code, by level, and the first as it was before a change. */
interface Scope {
  readonly records: readonly string[]
  readonly old?: string
}

class Writer {
  readonly #steps: string[] = []
  readonly #answers = new Set<number>()

  constructor(private readonly asked: Asked) {}

  write(condition: Condition, helpers: Helpers): Generated['bind'] {
    const result = this.#test(condition, { records: ['r0'] })
    const answers = [...this.#answers].map((at) => `const a${at} = said[${at}], p${at} = typeof a${at} !== 'object';`)
    const body = [...answers, ...this.#steps, `return (r0) => ${result};`].join('\n')
    const made = new Function('compare', 'isUnchanged', `return (said) => {\n${body}\n}`) as (
      ...given: Helpers
    ) => Generated['bind']
    return made(...helpers)
  }

  /** What the world says. */
  #answer(to: Condition | Operand): string {
    const at = this.asked.placeOf(to)
    this.#answers.add(at)
    return `a${at}`
  }

  #test(condition: Condition, scope: Scope): string {
    switch (condition.kind) {
      case 'always':
        return 'true'
      case 'never':
        return 'false'
      case 'all':
      case 'any': {
        const parts = condition.of.map((part) => this.#test(part, scope))
        if (parts.length === 0) return String(condition.kind === 'all')
        return `(${parts.join(condition.kind === 'all' ? ' && ' : ' || ')})`
      }
      case 'not':
        return `!${this.#test(condition.of, scope)}`
      case 'after': {
        const [before = '', ...deeper] = scope.records
        const next = this.#answer(condition)
        return this.#test(condition.of, { records: [next, ...deeper], old: before })
      }
      case 'unchanged': {
        const before = scope.old ?? scope.records[0]
        return `isUnchanged(${quoted(condition.field)}, ${before}, ${this.#answer(condition)})`
      }
      case 'isSet':
        return `(${this.#value(condition.operand, scope)} != null)`
      case 'signedIn':
      case 'role':
      case 'channel':
        return this.#answer(condition)
      case 'compare':
        return this.#compare(condition, scope)
      case 'some':
        return this.#some(condition, scope)
      case 'may':
        throw new TypeError('A may condition has to be expanded before it is evaluated.')
    }
  }

  #compare({ how, left, right }: Compare, scope: Scope): string {
    const [is, wanted] = [this.#value(left, scope), this.#value(right, scope)]
    const slow = `compare(${quoted(how)}, ${is}, ${wanted})`
    // Nothing else is equal to a plain value; a missing one is an object.
    const isPlain = how === 'is' && left.kind === 'field' && (right.kind === 'value' || right.kind === 'caller')
    return isPlain ? `(p${wanted.slice(1)} ? ${is} === ${wanted} : ${slow})` : slow
  }

  /** A step is a function of the records around it. */
  #some(condition: Condition & { readonly kind: 'some' }, scope: Scope): string {
    const { from, to, where } = condition
    const name = `f${this.#steps.length}`
    // Its place, before those of the steps inside of it.
    this.#steps.push('')
    const at = this.#steps.length - 1
    const found = `r${to.level}_${at}`
    const records = [...scope.records.slice(0, to.level)]
    records[to.level] = found
    const find = this.#answer(condition)
    const test = this.#test(where, { ...scope, records })
    const around = [...new Set([...scope.records, ...(scope.old === undefined ? [] : [scope.old])])]
    const given = around.filter((each) => each !== undefined && each.startsWith('r')).join(', ')
    this.#steps[at] = `const ${name} = (${given}) => {
  const value = ${this.#value(from, scope)}
  if (value == null) return false
  const found = ${find}(value)
  for (let at = 0; at < found.length; at += 1) {
    const ${found} = found[at]
    if (${test}) return true
  }
  return false
};`
    return `${name}(${given})`
  }

  #value(operand: Operand, { records, old }: Scope): string {
    if (operand.kind === 'field') return `${records[operand.level]}[${quoted(operand.name)}]`
    if (operand.kind === 'old') return old === undefined ? 'undefined' : `${old}[${quoted(operand.name)}]`
    return this.#answer(operand)
  }
}

const quoted = (text: string): string => JSON.stringify(text)
