import type { Guard } from '../guard/index.js'
import type { Identity } from '../identity/index.js'
import { assertKnown, type TableName, tableOf } from '../model/index.js'
import type { CallerDefinition, Rulebook } from '../rules/index.js'
import { HttpConfigError } from './errors.js'
import type { Pages } from './pages.js'
import { onConsole } from './on-console.js'
import { type Part, PARTS, wholeTables } from './parts.js'
import { type RepeatStore, repeatsInMemory } from './repeats.js'

/** How records are served. */
export interface HandlerOptions<M, C, A, N> {
  readonly guard: Guard<M, C, A>
  readonly identity: Identity<C, N>
  /** The tables that are served, and which parts of them; left out, every one that has rules, whole. */
  readonly tables?: { readonly [T in TableName<M>]?: 'whole' | readonly Part[] }
  /** Where they are served; left out, `/api`. */
  readonly base?: string
  /** What a browser that asks for a page is answered where it is refused; left out, a plain page. */
  readonly pages?: Pages
  /** Where it is kept which creates were done already; left out, in memory. */
  readonly repeats?: RepeatStore
  /** Hears of what went wrong on the server, for `inFull`; left out, the console does. */
  readonly onError?: (error: unknown, request: Request) => void
  /** The title of the description; left out, `Records`. */
  readonly title?: string
  /**
   * Whether `openapi.json?of=anyone` is served as well: to everybody, what anyone could ever see and send, with the names of all tables
   * and fields. Left out, it is not, and `pachter emit openapi` has it.
   */
  readonly describesAll?: boolean
  /**
   * At which distance from its arrival, or a multiple of it, a request is told that it is refused: 0 to 1,000 milliseconds, 20
   * where it is left out. With 0 at once, so that whoever measures can tell what is hidden from what is not there.
   */
  readonly refusalMilliseconds?: number
}

/** The options with what was left out filled in. */
export interface Settings {
  readonly rulebook: Rulebook
  readonly base: string
  /** The parts that are served, by table. */
  readonly tables: ReadonlyMap<string, ReadonlySet<Part>>
  readonly pages: Pages
  readonly repeats: RepeatStore
  readonly onError: (error: unknown, request: Request) => void
  readonly title: string
  readonly describesAll: boolean
  readonly refusalMilliseconds: number
}

const OPTIONS: readonly (keyof HandlerOptions<never, never, never, never>)[] = [
  'guard',
  'identity',
  'tables',
  'base',
  'pages',
  'repeats',
  'onError',
  'title',
  'describesAll',
  'refusalMilliseconds',
]

/**
 * Checks the options, and fills in what was left out.
 *
 * @throws {HttpConfigError} where the base or a part is none
 * @throws {UnknownNameError} where there is no such option, or no such table
 */
export function checked<M, C extends CallerDefinition, A, N>(options: HandlerOptions<M, C, A, N>): Settings {
  assertKnown('option', options, OPTIONS, 'createHandler')
  const { guard, base = '/api', pages = {}, repeats = repeatsInMemory(), title = 'Records' } = options
  const { refusalMilliseconds = 20, describesAll = false } = options
  if (!(refusalMilliseconds >= 0 && refusalMilliseconds <= 1000)) {
    throw new HttpConfigError(`refusalMilliseconds is ${refusalMilliseconds}; it must be from 0 to 1,000.`)
  }
  if (!/^(?:[/][\w.~-]+)+$/.test(base)) {
    throw new HttpConfigError(`base is '${base}'; it must be a path such as '/api', without a slash at its end.`)
  }
  const rulebook: Rulebook = guard.rules
  const given = options.tables && (Object.entries(options.tables) as [string, 'whole' | readonly Part[]][])
  const named = given?.map(([table, parts]) => [table, partsOf(rulebook, table, parts)] as const)
  const tables = named ? new Map(named) : wholeTables(rulebook)
  const { onError = onConsole('http') } = options
  return { rulebook, base, tables, pages, repeats, title, describesAll, refusalMilliseconds, onError }
}

function partsOf(rulebook: Rulebook, table: string, parts: 'whole' | readonly Part[]): ReadonlySet<Part> {
  tableOf(rulebook.model, table)
  const named = parts === 'whole' ? PARTS : parts
  for (const part of named) {
    if (PARTS.includes(part)) continue
    throw new HttpConfigError(`${table} is to be served by ${String(part)}; the parts are ${PARTS.join(', ')}.`)
  }
  return new Set(named)
}
