import { fileURLToPath } from 'node:url'
import { run } from '../../dist/cli/run.js'

export const demo = fileURLToPath(new URL('../../examples/allotment/', import.meta.url))

/** The demo in SQLite: PGlite takes seconds to start. */
export const quick = ['--config', fileURLToPath(new URL('sqlite.config.ts', import.meta.url))]

/** What came of a command, as whoever typed it sees it. */
export interface Typed {
  readonly status: number
  readonly stdout: string
  readonly stderr: string
  data(): never
}

/** Runs a command in the demo's folder as from a shell, but for a process of its own, which would take a second each. */
export async function pachter(...args: string[]): Promise<Typed> {
  const before = process.cwd()
  const [printed, noted]: [string[], string[]] = [[], []]
  process.chdir(demo)
  try {
    const status = await run(args, {
      print: (text) => printed.push(text),
      note: (text) => noted.push(`pachter: ${text}`),
      fallShort: () => undefined,
    })
    const [stdout, stderr] = [printed, noted].map((texts) => texts.map((text) => `${text}\n`).join('')) as [
      string,
      string,
    ]
    return { status, stdout, stderr, data: () => JSON.parse(stdout) as never }
  } finally {
    process.chdir(before)
  }
}
