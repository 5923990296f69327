import { badQuery } from '../errors.js'

/** Goes through a text, a piece at a time; what does not fit is told with its place. */
export class Scanner {
  #at = 0

  constructor(
    /** What is read, for messages. */
    private readonly name: string,
    private readonly text: string,
  ) {}

  /** The piece that stands here, where it matches, and goes on behind it. */
  take(pattern: RegExp): string | undefined {
    const sticky = new RegExp(`\\s*(${pattern.source})`, 'y')
    sticky.lastIndex = this.#at
    const found = sticky.exec(this.text)
    if (!found) return undefined
    this.#at = sticky.lastIndex
    return found[1]
  }

  /** The piece that has to stand here. */
  expect(pattern: RegExp, what: string): string {
    return this.take(pattern) ?? this.fail(`${what} is expected`)
  }

  end(): void {
    if (this.take(/$/) === undefined) this.fail('nothing more is expected')
  }

  fail(problem: string): never {
    throw badQuery(`${this.name} cannot be read at character ${this.#at + 1}: ${problem}.`)
  }
}
