import type { UntypedStore } from '../guard/index.js'
import type { KeyValues } from '../model/index.js'
import type { Rulebook } from '../rules/index.js'
import type { Change } from './changes.js'
import { LIVE_LIMITS } from './limits.js'
import { lookUp } from './look.js'
import { concerns, type Touched, touchedBy } from './touched.js'
import type { Trail } from './trails.js'

/** A list that is followed. */
export interface Watched {
  readonly table: string
  readonly trails: readonly Trail[]
  /** Who follows it, with the roles they have. */
  readonly caller: unknown
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
    for (const { name, trail, fields } of trailsOf(reached)) {
      const those = changes.filter((change) => concerns({ ...trail, fields }, change))
      found.set(name, await touchedBy(this.store, this.rulebook.model, table, trail, those))
    }
    const open = new Map<string, KeyValues>()
    const undecided: Watched[] = []
    for (const { watched, trails } of reached) {
      if (trails.some((trail) => isOwn(trail, watched.caller, changes))) {
        watched.touchCaller()
        continue
      }
      const touched = trails.filter(({ caller }) => caller === undefined).map(({ name }) => found.get(name) as Touched)
      if (watched.isAsking || touched.some((each) => each === 'all' || hasAny(watched, each))) {
        watched.touch()
        continue
      }
      undecided.push(watched)
      for (const each of touched as readonly ReadonlyMap<string, KeyValues>[]) for (const one of each) open.set(...one)
    }
    if (open.size === 0) return
    const isOpenTo = await lookUp(this.store, this.rulebook, table, [...open.values()])
    for (const watched of undecided) if (watched.isAsking || isOpenTo(watched.caller)) watched.touch()
  }
}

/** A list, and those of its trails that a change concerns. */
interface Reached {
  readonly watched: Watched
  readonly trails: readonly Trail[]
}

/** Each way once, with all the fields that somebody looks at there. */
function trailsOf(reached: readonly Reached[]) {
  const all = new Map<string, { readonly name: string; readonly trail: Trail; readonly fields: Set<string> }>()
  for (const { trails } of reached) {
    for (const trail of trails) {
      const known = all.get(trail.name) ?? { name: trail.name, trail, fields: new Set<string>() }
      for (const field of trail.fields) known.fields.add(field)
      all.set(trail.name, known)
    }
  }
  return all.values()
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
