import { Presets, SingleBar } from 'cli-progress'

/**
 * Shows on a terminal how far long work has come; elsewhere, nothing. It goes to the error output, so that what
 * is printed can be piped on.
 *
 * @param what is counted, such as `tables`
 */
export async function withProgress<T>(
  what: string,
  total: number,
  work: (onProgress: (done: number) => void) => Promise<T>,
): Promise<T> {
  if (!process.stderr.isTTY) return work(() => undefined)
  const format = ` {bar} {value} of {total} ${what}, {duration_formatted}`
  const bar = new SingleBar({ format, stream: process.stderr, clearOnComplete: true, fps: 5 }, Presets.shades_classic)
  bar.start(total, 0)
  try {
    return await work((done) => bar.update(done))
  } finally {
    bar.stop()
  }
}
