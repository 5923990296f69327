import type { UntypedStore } from '../guard/index.js'
import type { KeyValues } from '../model/index.js'
import type { Rulebook } from '../rules/index.js'
import type { Change } from './changes.js'
import { LIVE_LIMITS } from './limits.js'
import { lookUp } from './look.js'
import { concerns, decides, shows, type Touched, touchedBy } from './touched.js'
import type { Trail } from './trails.js'

/** A list that is followed. */
export interface Watched {
  readonly table: string
  readonly trails: readonly Trail[]
  /** Who follows it, with the roles they have. */
  readonly caller: unknown
  /** Whether more than the rules says what is in it, so that memory cannot decide it. */
  readonly isFiltered: boolean
  /** Whether it is being asked at this moment: what comes out may be older than a change that is told now. */
  readonly isAsking: boolean
  /** Whether a record with this key is in it. */
  has(key: string): boolean
  /** Has it asked again. */
  touch(): void
  /** Has it asked again, by whoever its caller is by now. */
  touchCaller(): void
}

/** What can go by before changes are looked at, in milliseconds: those that come together are looked at together. */
const GATHERED_MILLISECONDS = 10

/**
 * Works out which lists a change touches, from what each of them rests on. No list is asked for that: a change leads along
 * trails to the records it makes a difference to; those who have one of them in their list are touched, and of all others
 * memory decides, by the rules, whether they may have it now.
 */
export class Watch {
  readonly #watched = new Set<Watched>()
  readonly #pending = new Map<string, Change[]>()
  #isRunning = false

  /**
   * @param store one that reads whatever it is asked
   * @param onError hears of what kept it from working a change out: then all lists are asked again
   */
  constructor(
    private readonly rulebook: Rulebook,
    private readonly store: UntypedStore,
    private readonly onError: (error: unknown) => void,
  ) {}

  add(watched: Watched): void {
    this.#watched.add(watched)
  }

  delete(watched: Watched): void {
    this.#watched.delete(watched)
  }

  hear(change: Change | 'gap'): void {
    if (change === 'gap') return this.touchAll()
    const { table } = change
    const pending = this.#pending.get(table) ?? []
    // Of too many, it is not told any more which.
    const many = pending.length >= LIVE_LIMITS.rowsATime
    this.#pending.set(table, many ? [{ table }] : [...pending, change])
    if (this.#isRunning) return
    this.#isRunning = true
    setTimeout(() => void this.#run(), GATHERED_MILLISECONDS)
  }

  touchAll(): void {
    for (const each of this.#watched) each.touchCaller()
  }

  async #run(): Promise<void> {
    while (this.#pending.size > 0) {
      const changes = [...this.#pending.values()].flat()
      this.#pending.clear()
      try {
        await this.#round(changes)
      } catch (error) {
        this.onError(error)
        this.touchAll()
      }
    }
    this.#isRunning = false
  }

  async #round(changes: readonly Change[]): Promise<void> {
    const tables = new Map<string, Reached[]>()
    for (const watched of this.#watched) {
      const trails = watched.trails.filter((trail) => changes.some((change) => concerns(trail, change)))
      if (trails.length === 0) continue
      const reached = { watched, trails }
      const others = tables.get(watched.table)
      if (others) others.push(reached)
      else tables.set(watched.table, [reached])
    }
    for (const [table, reached] of tables) await this.#look(table, reached, changes)
  }

  /** Finds out which of those lists of a table are touched. */
  async #look(table: string, reached: readonly Reached[], changes: readonly Change[]): Promise<void> {
    const found = new Map<string, Touched>()
    for (const { trail, those } of waysOf(reached, changes)) {
      found.set(trail.name, await touchedBy(this.store, this.rulebook.model, table, trail, those))
    }
    const open = new Map<string, KeyValues>()
    const undecided: { readonly watched: Watched; readonly keys: Set<string> }[] = []
    for (const { watched, trails } of reached) {
      if (trails.some((trail) => isOwn(trail, watched.caller, changes))) {
        watched.touchCaller()
        continue
      }
      const keys = new Set<string>()
      let isTouched = watched.isAsking
      for (const trail of trails) {
        const touched = trail.caller === undefined ? found.get(trail.name) : undefined
        if (!touched || isTouched) continue
        if (touched === 'all' || (changes.some((change) => shows(trail, change)) && hasAny(watched, touched))) {
          isTouched = true
        } else if (changes.some((change) => decides(trail, change))) {
          for (const [key, values] of touched) {
            keys.add(key)
            open.set(key, values)
          }
        }
      }
      if (isTouched) watched.touch()
      else if (keys.size > 0) undecided.push({ watched, keys })
    }
    if (undecided.length === 0) return
    const openTo = await lookUp(this.store, this.rulebook, table, [...open.values()])
    for (const { watched, keys } of undecided) {
      if (watched.isAsking || !openTo || differs(watched, keys, openTo(watched.caller))) watched.touch()
    }
  }
}

/** Whether of these records, some should be in a list and are not, or are and should not. */
function differs(watched: Watched, keys: ReadonlySet<string>, open: ReadonlySet<string>): boolean {
  for (const key of keys) {
    const [has, should] = [watched.has(key), open.has(key)]
    if (has !== should || (has && watched.isFiltered)) return true
  }
  return false
}

/** A list, and those of its trails that a change concerns. */
interface Reached {
  readonly watched: Watched
  readonly trails: readonly Trail[]
}

/** Each way once, with the changes that somebody looks at there. */
function waysOf(reached: readonly Reached[], changes: readonly Change[]) {
  const ways = new Map<string, { readonly trail: Trail; readonly those: Set<Change> }>()
  for (const { trails } of reached) {
    for (const trail of trails) {
      const way = ways.get(trail.name) ?? { trail, those: new Set<Change>() }
      for (const change of changes) if (concerns(trail, change)) way.those.add(change)
      ways.set(trail.name, way)
    }
  }
  return [...ways.values()].map(({ trail, those }) => ({ trail, those: [...those] }))
}

function hasAny(watched: Watched, touched: ReadonlyMap<string, unknown>): boolean {
  for (const key of touched.keys()) if (watched.has(key)) return true
  return false
}

/** Whether a trail starts from the caller and leads to a row that was written: who the caller is may have changed. */
function isOwn(trail: Trail, caller: unknown, changes: readonly Change[]): boolean {
  const { caller: attribute, steps } = trail
  if (attribute === undefined) return false
  const value = (caller as Readonly<Record<string, unknown>>)[attribute]
  const [step] = steps
  return changes.some(
    (change) =>
      concerns(trail, change) &&
      (steps.length !== 1 || !change.rows || change.rows.some((row) => !step || (row[step.to] ?? value) === value)),
  )
}
