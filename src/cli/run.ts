import { readFileSync } from 'node:fs'
import { Command, CommanderError } from 'commander'
import { inFull, PachterError } from '../model/index.js'
import { addAdopt } from './adopt.js'
import { addCheck } from './check.js'
import { addCompare } from './compare.js'
import { addCompletion } from './completion.js'
import { addEmit } from './emit.js'
import { addGrid } from './grid.js'
import { addIndexes } from './indexes.js'
import { addTriggers } from './triggers.js'
import { addSee } from './see.js'
import type { Shell } from './shell.js'
import { shorten } from './table.js'
import { addTry } from './try.js'
import { visible } from './visible.js'
import { addWhy } from './why.js'

const WRONG_USE = 2

const { version } = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as {
  version: string
}

/**
 * Runs a command as it was typed.
 *
 * @param args what stands behind `pachter`
 * @returns the exit status: 0 fine, 1 the rules or expectations fall short, 2 wrong use
 */
export async function run(args: readonly string[], shell: Shell): Promise<number> {
  let status = 0
  const inside: Shell = { ...shell, fallShort: () => (status = 1) }
  const program = new Command('pachter')
    .version(version, '--version', 'tells the version')
    .description('Who may see and do what, user by user.')
    .showSuggestionAfterError(false)
    .exitOverride()
    .configureOutput({
      writeOut: (text) => shell.print(text.trimEnd()),
      writeErr: (text) => shell.note(text.trimEnd().replace(/^error: /, '')),
    })
  for (const add of [
    addGrid,
    addSee,
    addWhy,
    addTry,
    addCheck,
    addCompare,
    addEmit,
    addAdopt,
    addIndexes,
    addTriggers,
    addCompletion,
  ])
    add(program, inside)
  try {
    await program.parseAsync(args, { from: 'user' })
    return status
  } catch (error) {
    // Commander has printed its message or the help already.
    if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : WRONG_USE
    shell.note(visible(shorten(textOf(error))))
    return WRONG_USE
  }
}

/** An error in words: what went wrong elsewhere, such as in the database or in the configuration, without its traces. */
function textOf(error: unknown): string {
  if (error instanceof PachterError) return inFull(error)
  if (error instanceof AggregateError) return [...new Set(error.errors.map(textOf))].join('; ')
  if (!(error instanceof Error)) return String(error)
  const { code } = error as Error & { readonly code?: unknown }
  const [message = ''] = error.message.split('\n')
  return [message || error.name, ...(typeof code === 'string' && !message.includes(code) ? [`(${code})`] : [])].join(
    ' ',
  )
}
