/** How far off the end of a sleep can be, in milliseconds. */
const ROUGH = 2

/**
 * Waits until the next full tick since a request came. How long it takes to find out that a record is hidden is not quite how
 * long it takes to find out that there is none; so what is refused leaves at moments that depend on nothing but its arrival.
 *
 * @param arrived when the request came, by `performance.now()`
 * @param tick the distance of the moments in milliseconds; 0 where nobody waits
 */
export async function untilTick(arrived: number, tick: number): Promise<void> {
  if (tick === 0) return
  const end = arrived + Math.ceil((performance.now() - arrived) / tick) * tick
  const rest = end - performance.now() - ROUGH
  if (rest > 0) await new Promise((resolve) => setTimeout(resolve, rest))
  // Sleep counts in whole milliseconds from when it is called, which would tell; others are served meanwhile.
  while (performance.now() < end) await new Promise((resolve) => setImmediate(resolve))
}
