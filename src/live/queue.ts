/** Runs work, only so much of it at a time, in the order in which it came. */
export class Queue {
  readonly #waiting: (() => void)[] = []
  #running = 0

  constructor(private readonly most: number) {}

  async run<T>(work: () => Promise<T>): Promise<T> {
    if (this.#running >= this.most) await new Promise<void>((resolve) => this.#waiting.push(resolve))
    else this.#running += 1
    try {
      return await work()
    } finally {
      const next = this.#waiting.shift()
      // Whoever comes next takes this one's place.
      if (next) next()
      else this.#running -= 1
    }
  }
}
