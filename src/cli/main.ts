#!/usr/bin/env node
import { run } from './run.js'

// Whoever reads the output may stop early, as `head` does.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error
  process.exit()
})

process.exitCode = await run(process.argv.slice(2), {
  print: (text) => process.stdout.write(`${text}\n`),
  note: (text) => process.stderr.write(`pachter: ${text}\n`),
  fallShort: () => undefined,
})
