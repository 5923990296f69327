import type { SqlStore } from '../../sql/index.js'
import { assertKnown, UnknownNameError } from '../../model/index.js'
import { type Caller, checkCaller, type Rulebook, trusted } from '../../rules/index.js'
import { createGuard, type UntypedStore, type Validators } from '../../guard/index.js'

/** What there is to look at: rules, callers and their names, and the store with the records. */
export interface Subject {
  readonly rules: Rulebook
  /** The callers to look through, by a short name. */
  readonly callers: Readonly<Record<string, unknown>>
  /** Callers besides them. */
  readonly furtherCallers?: Readonly<Record<string, unknown>>
  readonly store: SqlStore
  /** The field by which a person knows a record, by table. */
  readonly titles?: Readonly<Record<string, string>>
  readonly validators?: Validators
  /** Says the moment of everything that is asked; left out, the computer's clock. */
  readonly clock?: () => Date
}

/** What every check works with: a subject, and its store as each caller may use it. */
export interface Workbench {
  readonly rulebook: Rulebook
  readonly store: SqlStore
  readonly titles: Readonly<Record<string, string>>
  /** The callers' names. */
  readonly names: readonly string[]
  readonly clock: () => Date
  /** The store as this caller may use it. */
  as(name: string): UntypedStore
  /** The store as it is, whoever may see it: for the developer. */
  readonly everything: UntypedStore
  /** The caller of that name. */
  caller(name: string): Caller
  /** The same with something else in its place. */
  instead(change: Partial<Subject>): Workbench
}

/**
 * Prepares to look at a subject.
 *
 * @throws {CallerError} where a caller is not one the rules know
 */
export function openWorkbench(subject: Subject): Workbench {
  const { rules, store, titles = {}, validators = {}, clock = () => new Date() } = subject
  assertKnown('table with titles', titles, Object.keys(rules.model.tables))
  const callers = { ...subject.callers, ...subject.furtherCallers }
  const guard = createGuard<never, never, never>({ rules, store, validators, clock })
  // The developer looks at their own records, and knows that they do.
  const silent = createGuard<never, never, never>({ rules, store, clock, onDecision: () => undefined })
  const known = new Map(Object.entries(callers).map(([name, given]) => [name, checkCaller(rules.caller, given)]))
  const opened = new Map<string, UntypedStore>()
  const open = (name: string): UntypedStore => {
    const store = guard.as(callers[name] as never) as unknown as UntypedStore
    opened.set(name, store)
    return store
  }
  return {
    rulebook: rules,
    store,
    titles,
    names: [...known.keys()],
    clock,
    as: (name) => opened.get(name) ?? open(chooseCallers([...known.keys()], [name])[0] as string),
    everything: silent.as(trusted('the developer looks at everything') as never) as unknown as UntypedStore,
    caller: (name) => known.get(chooseCallers([...known.keys()], [name])[0] as string) as Caller,
    instead: (change) => openWorkbench({ ...subject, ...change }),
  }
}

/**
 * The callers asked for, each once, or all where none was.
 * @throws {UnknownNameError} where there is no such caller
 */
export function chooseCallers(known: readonly string[], asked: readonly string[]): readonly string[] {
  for (const name of asked) if (!known.includes(name)) throw new UnknownNameError('caller', name, known)
  return asked.length > 0 ? [...new Set(asked)] : known
}

/** What a caller is known by, for people: attributes, roles where there are any, channel, and the reason of trusted code. */
export function attributesOf({ attributes, roles, channel, trusted }: Caller): Readonly<Record<string, unknown>> {
  return {
    ...attributes,
    ...(roles.length > 0 && { roles }),
    ...(channel !== undefined && { channel }),
    ...(trusted !== undefined && { trusted }),
  }
}
