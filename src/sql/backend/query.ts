import { BusyError, ConflictError, isThenable, MisfitError, StoreError } from '../../guard/index.js'
import { noteAside, PachterError } from '../../model/index.js'
import { type DatabaseProblem, type Dialect, problemOf } from '../dialect.js'
import type { Connection, Outcome } from './sql-store.js'

/**
 * Runs a statement; what the driver throws becomes an error that may be told to anybody.
 *
 * @throws the signal's reason, where that ended it
 */
export function query(
  dialect: Dialect,
  at: Connection & { readonly isInside?: boolean },
  text: string,
  values: unknown[],
  signal?: AbortSignal,
): Outcome | Promise<Outcome> {
  const fail = (error: unknown): never => {
    if (signal?.aborted && (error === signal.reason || problemOf(dialect, error) === 'cancelled')) throw signal.reason
    throw tellable(dialect, error, { isInside: at.isInside === true, isRead: READS.test(text) })
  }
  try {
    signal?.throwIfAborted()
    const outcome = at.query(text, values, signal)
    return isThenable(outcome) ? Promise.resolve(outcome).catch(fail) : outcome
  } catch (error) {
    return fail(error)
  }
}

/** What only reads, also with settings in front of it: nothing that is written can be in its way. */
const READS = /^(?:SET STATEMENT .*? FOR )?SELECT\b/s

/** What was asked, as far as it matters to whoever is told that it failed. */
interface Asked {
  /** Whether the error ends a transaction, so that nothing is done in any case. */
  readonly isInside?: boolean
  readonly isRead?: boolean
}

/** An error of a driver as one that may be told to anybody. */
export function tellable(dialect: Dialect, error: unknown, asked: Asked = {}): unknown {
  if (error instanceof PachterError) return error
  return noteAside(errorFor(problemOf(dialect, error), asked), { cause: error })
}

function errorFor(problem: DatabaseProblem | undefined, { isInside, isRead }: Asked): PachterError {
  if (problem === 'busy') return new BusyError('Another request was in the way; nothing was written.')
  if (problem === 'unanswered' && !isInside) return new StoreError('The database did not answer.')
  const isInTheWay = problem === 'duplicate' || problem === 'constraint' || problem === 'misfit'
  if (!isInTheWay || isRead) return new StoreError('The database did not do this.')
  // One sentence for all, which does not tell what it is that stands there.
  const Kind = problem === 'misfit' ? MisfitError : ConflictError
  return new Kind('What is stored already stands in the way of this; nothing was written.')
}
