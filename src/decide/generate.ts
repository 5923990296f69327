import { type Compare, compareValues, type Condition, type Operand } from '../condition/index.js'
import type { MemoryRecord } from './data.js'
import { Asked, type World } from './world.js'

/** A condition as code: what it asks of the world, and the test of a record once that is answered. */
interface Generated {
  readonly asked: Asked
  bind(said: readonly unknown[]): (record: MemoryRecord) => boolean
}

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

const generated = new WeakMap<Condition, Generated | false>()

/**
 * Like `evaluator`, for a condition that is kept and asked about many records: it is written as code, once. The engine then
 * reads fields by their names, which makes a short test several times faster than one put together of functions. Nothing
 * but the names of fields, quoted, and numbers gets into the text.
 *
 * @returns nothing where no code can be made of text, or not of this condition
 */
export function evaluatorAsCode(condition: Condition, world: World): ((record: MemoryRecord) => boolean) | undefined {
  const made = generated.get(condition) ?? generate(condition)
  generated.set(condition, made)
  return made === false ? undefined : made.bind(made.asked.answeredBy(world))
}

function generate(condition: Condition): Generated | false {
  if (!mayGenerate()) return false
  try {
    const asked = new Asked()
    return { asked, bind: new Writer(asked).write(condition) }
  } catch {
    // About a change, or too deep or too long for the engine.
    return false
  }
}

/** The names that records have in the code, by level. */
type Names = readonly string[]

class Writer {
  readonly #steps: string[] = []
  readonly #answers = new Set<number>()

  constructor(private readonly asked: Asked) {}

  write(condition: Condition): Generated['bind'] {
    const result = this.#test(condition, ['r0'])
    const answers = [...this.#answers].map((at) => `const a${at} = said[${at}], p${at} = typeof a${at} !== 'object';`)
    const body = [...answers, ...this.#steps, `return (r0) => ${result};`].join('\n')
    const made = new Function('compare', `return (said) => {\n${body}\n}`) as (
      compare: typeof compareValues,
    ) => Generated['bind']
    return made(compareValues)
  }

  /** What the world says. */
  #answer(to: Condition | Operand): string {
    const at = this.asked.placeOf(to)
    this.#answers.add(at)
    return `a${at}`
  }

  #test(condition: Condition, names: Names): string {
    switch (condition.kind) {
      case 'always':
        return 'true'
      case 'never':
        return 'false'
      case 'all':
      case 'any': {
        const parts = condition.of.map((part) => this.#test(part, names))
        if (parts.length === 0) return String(condition.kind === 'all')
        return `(${parts.join(condition.kind === 'all' ? ' && ' : ' || ')})`
      }
      case 'not':
        return `!${this.#test(condition.of, names)}`
      case 'isSet':
        return `(${this.#value(condition.operand, names)} != null)`
      case 'signedIn':
      case 'role':
      case 'channel':
        return this.#answer(condition)
      case 'compare':
        return this.#compare(condition, names)
      case 'some':
        return this.#some(condition, names)
      case 'after':
      case 'unchanged':
      case 'may':
        throw new TypeError(`A condition of the kind ${condition.kind} is not written as code.`)
    }
  }

  #compare({ how, left, right }: Compare, names: Names): string {
    const [is, wanted] = [this.#value(left, names), this.#value(right, names)]
    const slow = `compare(${quoted(how)}, ${is}, ${wanted})`
    // Nothing else is equal to a plain value; a missing one is an object.
    const isPlain = how === 'is' && left.kind === 'field' && (right.kind === 'value' || right.kind === 'caller')
    return isPlain ? `(p${wanted.slice(1)} ? ${is} === ${wanted} : ${slow})` : slow
  }

  /** A step is a function of the records around it. */
  #some(condition: Condition & { readonly kind: 'some' }, names: Names): string {
    if (condition.chain !== undefined) throw new TypeError('A chain is not written as code.')
    const { from, to, where } = condition
    const name = `f${this.#steps.length}`
    // Its place, before those of the steps inside of it.
    this.#steps.push('')
    const at = this.#steps.length - 1
    // Numbers of its own: what stands in the rulebook does not get into the text, were it what it should not be.
    const found = `r_${at}`
    const inside = names.slice(0, to.level)
    inside[to.level] = found
    const find = this.#answer(condition)
    const test = this.#test(where, inside)
    const given = names.filter((each) => each !== undefined).join(', ')
    this.#steps[at] = `const ${name} = (${given}) => {
  const value = ${this.#value(from, names)}
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

  #value(operand: Operand, names: Names): string {
    if (operand.kind === 'field') return `${names[operand.level]}[${quoted(operand.name)}]`
    if (operand.kind === 'old') throw new TypeError('What a record was before a change is not written as code.')
    return this.#answer(operand)
  }
}

const quoted = (text: string): string => JSON.stringify(text)
