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
    throw tellable(dialect, error, at.isInside)
  }
  try {
    signal?.throwIfAborted()
    const outcome = at.query(text, values, signal)
    return isThenable(outcome) ? Promise.resolve(outcome).catch(fail) : outcome
  } catch (error) {
    return fail(error)
  }
}

/**
 * An error of a driver as one that may be told to anybody.
 *
 * @param isInside whether it ends a transaction, so that nothing is done in any case
 */
export function tellable(dialect: Dialect, error: unknown, isInside = false): unknown {
  if (error instanceof PachterError) return error
  const problem = problemOf(dialect, error)
  const isUnknown = problem === 'unanswered' && !isInside
  return noteAside(isUnknown ? new StoreError('The database did not answer.') : errorFor(problem), { cause: error })
}

function errorFor(problem: DatabaseProblem | undefined): PachterError {
  if (problem === 'busy') return new BusyError('Another request was in the way; nothing was written.')
  if (problem === undefined || problem === 'cancelled' || problem === 'unanswered')
    return new StoreError('The database did not do this.')
  // One sentence for all, which does not tell what it is that stands there.
  const Kind = problem === 'misfit' ? MisfitError : ConflictError
  return new Kind('What is stored already stands in the way of this; nothing was written.')
}
