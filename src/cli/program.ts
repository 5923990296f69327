import { type Shell } from './shell.js'
import { type Command } from 'commander'
import { bigIntAsText } from '../model/index.js'
import { visibly } from './visible.js'

/** The options every command has. */
export interface Options {
  readonly json: boolean
  readonly config: string
}

/** Adds a command with the options that all have. */
export function addCommand(program: Command, usage: string, description: string): Command {
  return program
    .command(usage)
    .description(description)
    .option('--json', 'print data for programs', false)
    .option('--config <file>', 'the configuration', 'pachter.config.ts')
}

/** For options that may be repeated. */
export const collect = (name: string, names: readonly string[]): readonly string[] => [...names, name]

/** Values that JSON does not have, as they are sent over HTTP as well. */
function asJson(this: Readonly<Record<string, unknown>>, name: string, value: unknown): unknown {
  const bytes = this[name]
  return bytes instanceof Uint8Array ? Buffer.from(bytes).toString('hex') : bigIntAsText(name, value)
}

/** Prints data for programs or for people: colours are ours, and nothing in the data is a command to a terminal. */
export function show<T>(shell: Shell, { json }: Pick<Options, 'json'>, data: T, print: (data: T) => string): void {
  shell.print(json ? JSON.stringify(data, asJson, 2) : print(visibly(data)))
}
