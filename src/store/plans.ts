import { LIMITS } from '../model/index.js'

/** Something kept, and how much it weighs. */
interface Kept {
  readonly value: unknown
  readonly bytes: number
}

/**
 * What was worked out once, by the shape of caller it is for and by name, and no more bytes of it, about, than a limit:
 * then what was worked out longest ago is forgotten first.
 */
export class Plans {
  readonly #shapes = new Map<string, Map<string, Kept>>()
  #bytes = 0

  constructor(readonly most: number = LIMITS.planBytes) {}

  /** What is kept for one shape of caller. */
  for(shape: string): ShapePlans {
    return { get: (name, make) => this.#get(shape, name, make) }
  }

  #get<T>(shape: string, name: string, make: () => T): T {
    const kept = this.#shapes.get(shape)?.get(name)
    if (kept) return kept.value as T
    const value = make()
    const bytes = weigh(name, value)
    this.#makeRoom(bytes)
    const names = this.#shapes.get(shape) ?? new Map<string, Kept>()
    names.set(name, { value, bytes })
    this.#shapes.set(shape, names)
    this.#bytes += bytes
    return value
  }

  #makeRoom(bytes: number): void {
    for (const [shape, names] of this.#shapes) {
      for (const [name, kept] of names) {
        if (this.#bytes + bytes <= this.most) return
        names.delete(name)
        this.#bytes -= kept.bytes
      }
      this.#shapes.delete(shape)
    }
  }
}

/** What is kept for one shape of caller. */
export interface ShapePlans {
  /** What is kept under this name, made where it is not. */
  get<T>(name: string, make: () => T): T
}

/** What a plan weighs beside its texts. */
const PLAIN = 1_000

/** A name tells what was asked, and what is kept for it is some times as long; SQL tells its own length. */
function weigh(name: string, value: unknown): number {
  const { statement, text } = (value ?? {}) as { statement?: { text?: string }; text?: string }
  return PLAIN + 8 * name.length + 4 * (statement?.text ?? text ?? '').length
}
