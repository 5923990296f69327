import { UnknownNameError } from '../model/index.js'
import { checkCaller, type Rulebook } from '../rules/index.js'
import { createGuard, type ScopedStore, type Store } from '../store/index.js'
import { type Config, UsageError } from './config.js'

/** The scoped store as the command line uses it: any table, any key. */
export interface AnyScopedStore {
  list: (table: string, options: { access: true }) => ReturnType<ScopedStore<never>['list']>
  count: (table: string) => Promise<number>
  plan: (table: string, options: { limit: number }) => ReturnType<ScopedStore<never>['plan']>
  verdict: (action: string, table: string, key: unknown) => ReturnType<ScopedStore<never>['verdict']>
}

/** What every command works with: the rules, the callers, the store. */
export interface Workbench {
  readonly rulebook: Rulebook
  readonly titles: Readonly<Record<string, string>>
  readonly store: Store
  as(name: string): AnyScopedStore
  /** The caller of that name, as the configuration has it. */
  caller(name: string): unknown
  /** What a caller is known by: attributes and roles; nothing of one who has not signed in. */
  attributes(name: string): Readonly<Record<string, unknown>>
}

/** Runs a command on what the configuration says, and closes the store afterwards. */
export async function withWorkbench<T>(config: Config, work: (bench: Workbench) => Promise<T>): Promise<T> {
  const { rules, callers, titles = {} } = config
  const store = await config.store()
  const guard = createGuard<never, never>({ rules, store })
  try {
    return await work({
      rulebook: rules,
      titles,
      store,
      caller: (name) => callers[name],
      attributes: (name) => {
        const { attributes, roles } = checkCaller(rules.caller, callers[name])
        return roles.length > 0 ? { ...attributes, roles } : attributes
      },
      as: (name) => guard.as(callers[name] as never) as unknown as AnyScopedStore,
    })
  } finally {
    await store.close?.()
  }
}

/**
 * The callers asked for, or all where none was.
 * @throws {UnknownNameError} where the configuration has no such caller
 */
export function chooseCallers({ callers }: Config, asked: readonly string[]): readonly string[] {
  const known = Object.keys(callers)
  for (const name of asked) if (!known.includes(name)) throw new UnknownNameError('caller', name, known)
  return asked.length > 0 ? [...new Set(asked)] : known
}

/**
 * The one caller asked for.
 * @throws {UsageError} where none or several were
 */
export function chooseCaller(config: Config, asked: readonly string[]): string {
  const [name, ...more] = asked
  if (name === undefined || more.length > 0) {
    throw new UsageError(`Name one caller with --as; there is ${Object.keys(config.callers).join(', ')}.`)
  }
  return chooseCallers(config, asked)[0] as string
}
