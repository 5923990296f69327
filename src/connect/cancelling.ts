/** A connection besides the one whose statement runs. */
export interface Bystander {
  /** Has the server cancel the statement. */
  cancel(): Promise<unknown>
  release(): void
}

/**
 * Runs a statement that is cancelled on the server where the signal says so. It ends as the server ends it: one that was done
 * before it could be cancelled is done.
 *
 * @param connect opens a connection to cancel by
 * @throws the signal's reason, where it said so before
 */
export async function cancellable<T>(
  signal: AbortSignal,
  connect: () => Promise<Bystander>,
  run: () => Promise<T>,
): Promise<T> {
  signal.throwIfAborted()
  let isOver = false
  let cancelled: Promise<unknown> | undefined
  const cancel = () => {
    // What cannot be cancelled goes on to its end.
    connect().then(
      (bystander) => {
        cancelled = (isOver ? Promise.resolve() : bystander.cancel()).catch(() => undefined)
        void cancelled.then(() => bystander.release())
      },
      () => undefined,
    )
  }
  signal.addEventListener('abort', cancel, { once: true })
  try {
    return await run()
  } finally {
    isOver = true
    signal.removeEventListener('abort', cancel)
    // Whoever gets the connection next must not be the one it reaches.
    await cancelled
  }
}
