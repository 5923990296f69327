import { access } from 'node:fs/promises'
import { resolve } from 'node:path'
import { assertKnown, PachterError, type TableName } from '../model/index.js'
import { openWorkbench, type Workbench } from '../check/index.js'
import type { CallerOf, Rules } from '../rules/index.js'
import type { Validators } from '../guard/index.js'
import type { SqlStore } from '../sql/index.js'
import { loadModule } from './modules.js'

/** What `pachter.config.ts` says. */
export interface Config<M = never, C = never> {
  /** The rules, from `defineRules`. */
  readonly rules: Rules<M, C>
  /** The callers to look through, by a short name; `grid` and `emit json` need none. */
  readonly callers?: Readonly<Record<string, CallerOf<C>>>
  /** Opens the store to look at, for all commands but `grid` and `emit json`. It is closed afterwards if it has a `close`. */
  readonly store?: () => SqlStore | Promise<SqlStore>
  /** The field by which a person knows a record, by table, such as `{ entries: 'title' }`. */
  readonly titles?: Readonly<Record<string, string>>
  /** The guard's validators, where it has any, so that what is tried here is refused as it is there. */
  readonly validators?: Validators<TableName<M>>
  /**
   * The table with a record for each caller, for `see --reach`, and the fields of it that are not called like the
   * caller's attribute; left out, what the caller shape names as `record`.
   */
  readonly everyone?: { readonly table?: TableName<M>; readonly attributes?: Readonly<Record<string, string>> }
  /** The file of expectations, beside the configuration; left out, `expectations.yaml`. */
  readonly expectations?: string
}

/**
 * Types the default export of `pachter.config.ts`.
 *
 * @example export default defineConfig({ rules, callers: { nobody: anonymous, ana: { id: 1 } }, store: openStore })
 */
export function defineConfig<M, C>(config: Config<M, C>): Config<M, C> {
  return config
}

/** The command was used wrongly: exit status 2. */
export class UsageError extends PachterError {
  readonly code = 'usage'
}

/**
 * Loads a configuration file, TypeScript or JavaScript, without a build step.
 *
 * @throws {UsageError} where there is no such file, or it exports no configuration
 * @throws {UnknownNameError} where it says what means nothing
 */
export async function loadConfig(file: string): Promise<Config> {
  const path = resolve(file)
  await access(path).catch(() => {
    throw new UsageError(`There is no ${file} here; go to the folder that has it, or name it with --config.`)
  })
  // Modules that resolve to this package must be the very ones the command runs, so they are left to Node.
  const options = { nativeModules: ['pachter'] }
  const exported = await loadModule<{ readonly default?: Partial<Config> }>(path, options).catch((error: unknown) => {
    const { name, message } = error as Error
    const told = message
      .trim()
      .split('\n')
      .slice(0, 2)
      .map((line) => line.trim())
      .join(' ')
    throw new UsageError(`${file} cannot be loaded: ${told || name}`, { cause: error })
  })
  const config = exported.default
  if (config?.rules?.format !== 'pachter-rulebook') {
    throw new UsageError(`${file} has to export { rules, callers, store } as its default; use defineConfig.`)
  }
  assertKnown('setting', config, SETTINGS, file)
  return config as Config
}

const SETTINGS: readonly (keyof Config)[] = [
  'rules',
  'callers',
  'store',
  'titles',
  'validators',
  'everyone',
  'expectations',
]

/**
 * Loads a configuration that says as whom to look, and at what.
 *
 * @throws {UsageError} also where it has no callers, or no store
 */
export async function loadWhole(file: string): Promise<WholeConfig> {
  const config = await loadConfig(file)
  const { callers, store } = config
  const lacking = [...(callers ? [] : ['callers']), ...(typeof store === 'function' ? [] : ['store'])]
  if (!callers || !store || lacking.length > 0) {
    throw new UsageError(`${file} has no ${lacking.join(' and no ')}, which this command needs; see defineConfig.`)
  }
  return { ...config, callers, store }
}

/** A configuration that says all of it. */
export type WholeConfig = Config & Required<Pick<Config, 'callers' | 'store'>>

/** Runs work on what the configuration says, and closes the store afterwards. */
export async function withWorkbench<T>(config: WholeConfig, work: (bench: Workbench) => Promise<T>): Promise<T> {
  const store = await config.store()
  try {
    return await work(openWorkbench({ ...config, store }))
  } finally {
    await store.close?.()
  }
}

/**
 * The one caller asked for.
 * @throws {UsageError} where none or several were
 */
export function oneCaller({ callers }: WholeConfig, [name, ...more]: readonly string[]): string {
  if (name !== undefined && more.length === 0) return name
  throw new UsageError(`Name one caller with --as; known: ${Object.keys(callers).join(', ')}.`)
}
