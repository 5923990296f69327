#!/usr/bin/env node
import { readFileSync } from 'node:fs'
import { Command, CommanderError } from 'commander'
import { inFull, PachterError } from '../model/index.js'
import { addCheck } from './check.js'
import { addCompare } from './compare.js'
import { addEmit } from './emit.js'
import { addGrid } from './grid.js'
import { addSee } from './see.js'
import { addTry } from './try.js'
import { addWhy } from './why.js'

const WRONG_USE = 2

const { version } = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as {
  version: string
}

const program = new Command('pachter')
  .version(version, '--version', 'tells the version')
  .description('Who may see and do what, user by user.')
  .showSuggestionAfterError(false)
  .configureOutput({ outputError: (text, write) => write(text.replace(/^error/, 'pachter')) })
  .exitOverride()

for (const add of [addGrid, addSee, addWhy, addTry, addCheck, addCompare, addEmit]) add(program)

// Whoever reads the output may stop early, as `head` does.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error
  process.exit()
})

try {
  await program.parseAsync()
} catch (error) {
  if (error instanceof CommanderError) {
    // Commander has printed its message or the help already.
    process.exitCode = error.exitCode === 0 ? 0 : WRONG_USE
  } else {
    // What went wrong elsewhere, such as in the database, says most with the place where it did.
    const text = error instanceof PachterError ? inFull(error) : error instanceof Error ? error.stack : String(error)
    process.stderr.write(`pachter: ${text}\n`)
    process.exitCode = WRONG_USE
  }
}
