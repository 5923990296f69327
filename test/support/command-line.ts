import { spawnSync } from 'node:child_process'
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

/** Runs a command in the demo's folder. */
export const pachter = (...args: string[]): Promise<Typed> => pachterIn(demo, ...args)

/** Runs a command in a folder as from a shell, but for a process of its own, which would take a second each. */
export async function pachterIn(folder: string, ...args: string[]): Promise<Typed> {
  const before = process.cwd()
  const [printed, noted]: [string[], string[]] = [[], []]
  process.chdir(folder)
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

/** Runs a command in a folder in a process of its own, which loads what has changed since. */
export function pachterAnew(folder: string, ...args: string[]): Omit<Typed, 'data'> {
  const main = fileURLToPath(new URL('../../dist/cli/main.js', import.meta.url))
  const { status, stdout, stderr } = spawnSync(process.execPath, [main, ...args], { cwd: folder, encoding: 'utf8' })
  return { status: status ?? -1, stdout, stderr }
}
