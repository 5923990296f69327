import { AsyncLocalStorage } from 'node:async_hooks'
import { TransactionError } from '../../guard/index.js'
import { noteAside } from '../../model/index.js'
import { type Dialect, problemOf } from '../dialect.js'
import { query } from './query.js'
import type { Connection, Outcome } from './sql-store.js'

/** The transaction, or part of one, whose work is running. */
const current = new AsyncLocalStorage<Level>()

/**
 * A transaction, or a part of one that can be taken back alone. What runs in it takes turns: while a part is open,
 * nothing from outside slips in, or it would be taken back with it. Once it is over, nothing runs in it any more; once
 * it failed, nothing does either, and it does not end as if nothing had happened, whatever its work made of the error.
 */
export class Level implements Connection {
  readonly isInside = true
  #turn: Promise<unknown> = Promise.resolve()
  #isOver = false
  #failure: { readonly cause: unknown } | undefined
  #parts = 0

  private constructor(
    private readonly connection: Connection,
    private readonly dialect: Dialect,
    private readonly around: Level | undefined,
    private readonly depth: number,
  ) {}

  /** Runs work in the transaction that a connection has begun. */
  static whole<T>(connection: Connection, dialect: Dialect, work: (level: Level) => Promise<T>): Promise<T> {
    // What a store inside a transaction begins is a part of that already.
    if (connection instanceof Level) return work(connection)
    return new Level(connection, dialect, undefined, 0).#through(work)
  }

  /** Runs work as a part, which alone is taken back where it throws. */
  transaction<T>(work: (level: Level) => Promise<T>): Promise<T> {
    return this.#inTurn(async () => {
      const name = `pachter_${this.depth}_${(this.#parts += 1)}`
      const inner = new Level(this.connection, this.dialect, this, this.depth + 1)
      const mark = (text: string) =>
        query(this.dialect, { isInside: true, query: (...given) => this.#run(...given) }, text, [])
      await mark(`SAVEPOINT ${name}`)
      try {
        const done = await inner.#through(work)
        await mark(`RELEASE SAVEPOINT ${name}`)
        return done
      } catch (error) {
        await this.#takeBack(name)
        throw error
      }
    })
  }

  query(text: string, values: unknown[], signal?: AbortSignal): Promise<Outcome> {
    return this.#inTurn(() => {
      // While it waited, it may have been called off.
      signal?.throwIfAborted()
      return this.#run(text, values, signal)
    })
  }

  async #through<T>(work: (level: Level) => Promise<T>): Promise<T> {
    try {
      const done = await current.run(this, () => work(this))
      await this.#settled()
      this.#assertSound()
      return done
    } finally {
      await this.#settled()
      this.#isOver = true
    }
  }

  async #run(text: string, values: unknown[], signal?: AbortSignal): Promise<Outcome> {
    this.#assertSound()
    try {
      return await this.connection.query(text, values, signal)
    } catch (error) {
      this.#note(error)
      throw error
    }
  }

  /** Anything but a value that the database would not take ends the whole: what is left of it, only the database knows. */
  #note(error: unknown): void {
    const problem = problemOf(this.dialect, error)
    if (problem === 'duplicate' || problem === 'constraint' || problem === 'misfit') {
      if (this.dialect.failsWhole) this.#failure ??= { cause: error }
    } else this.#outermost().#failure ??= { cause: error }
  }

  /** Where even that fails, the whole has. */
  async #takeBack(name: string): Promise<void> {
    if (this.#outermost().#failure) return
    try {
      await this.connection.query(`ROLLBACK TO SAVEPOINT ${name}`, [])
    } catch (cause) {
      this.#outermost().#failure ??= { cause }
    }
  }

  #assertSound(): void {
    const failure = this.#failure ?? this.#outermost().#failure
    if (!failure) return
    throw noteAside(
      new TransactionError('Something in this transaction failed, so that none of it is written.'),
      failure,
    )
  }

  #inTurn<T>(work: () => Promise<T>): Promise<T> {
    if (this.#isOver) {
      return Promise.reject(new TransactionError('This transaction is over; its store cannot be used any more.'))
    }
    if (this.#isAround(current.getStore())) {
      const message = 'A part of this transaction is open; inside its work, use the store that it was handed.'
      return Promise.reject(new TransactionError(message))
    }
    const mine = this.#turn.then(work)
    this.#turn = mine.catch(() => undefined)
    return mine
  }

  /** Whether the work that is running is that of an open part of this. */
  #isAround(running: Level | undefined): boolean {
    for (let level = running; level; level = level.around) if (level.around === this) return !level.#isOver
    return false
  }

  /** Waits for what the work began and did not wait for. */
  async #settled(): Promise<void> {
    for (let turn: unknown; turn !== this.#turn;) {
      turn = this.#turn
      await this.#turn
    }
  }

  #outermost(): Level {
    return this.around ? this.around.#outermost() : this
  }
}
