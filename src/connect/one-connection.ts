import { AsyncLocalStorage } from 'node:async_hooks'
import { TransactionError } from '../guard/index.js'

/** Work in a transaction of a database with one connection. */
interface Running {
  isOver: boolean
}

/**
 * For a database with one connection: finds out who, inside a transaction, asks for the connection that the transaction
 * has. They would wait for themselves.
 */
export class OneConnection {
  readonly #running = new AsyncLocalStorage<Running>()

  /** Runs the work of a transaction. */
  async during<T>(work: () => Promise<T>): Promise<T> {
    const running: Running = { isOver: false }
    try {
      return await this.#running.run(running, work)
    } finally {
      running.isOver = true
    }
  }

  /** @throws {TransactionError} inside the work of a transaction */
  assertFree(): void {
    if (this.#running.getStore()?.isOver !== false) return
    throw new TransactionError(
      'This database has one connection, and the transaction around this call has it: use the store that was handed in.',
    )
  }
}
