/** How many times a tick comes where nobody stops it. */
const MOST = 10

/** Moments at even distances from the arrival of a request. */
export interface Tick {
  /** Waits for the next of them. */
  next(): Promise<void>
  stop(): void
}

const AT_ONCE: Tick = { next: () => Promise.resolve(), stop: () => undefined }

/**
 * Begins to tick. How long it takes to find out that a record is hidden is not quite how long it takes to find out that there
 * is none; so what is refused leaves at moments that were set when the request came, whatever was done in between.
 *
 * @param milliseconds the distance; 0 where nobody waits
 */
export function startTick(milliseconds: number): Tick {
  if (milliseconds === 0) return AT_ONCE
  let left = MOST
  let waiting: (() => void) | undefined
  // All set at the arrival: a timer that is set later would tell when.
  const timer = setInterval(() => {
    waiting?.()
    left -= 1
    if (left === 0) clearInterval(timer)
  }, milliseconds)
  // Where nobody waits, it keeps no process.
  timer.unref()
  return {
    next: () => {
      if (left === 0) return Promise.resolve()
      timer.ref()
      return new Promise((resolve) => (waiting = resolve))
    },
    stop: () => clearInterval(timer),
  }
}
