import { keyPath } from '../model/index.js'
import type { Rulebook } from '../rules/index.js'
import { differenceOf, type SentRecord, type Snapshot, snapshotOf } from './difference.js'
import type { Trail } from './trails.js'
import type { Watched } from './watch.js'

/** Something to be sent of a list. */
export interface Message {
  readonly event: 'records' | 'changes' | 'current' | 'refused'
  readonly data: object
}

/** What a list's address answered. */
export interface Listed {
  readonly records: readonly SentRecord[]
  readonly next?: string
}

/** One list of a stream, as its client has it. */
export class LiveList implements Watched {
  table = ''
  trails: readonly Trail[] = []
  isTimed = false
  isFiltered = false
  isAsking = false
  isTouched = true
  isOver = false
  #snapshot: Snapshot | undefined

  /**
   * @param at its place among the lists of the stream
   * @param url its address
   * @param known the mark of what the client has from before, if any
   * @param whose who follows it
   * @param onTouch called where it has to be asked
   */
  constructor(
    private readonly at: number,
    readonly url: URL,
    private readonly known: string | undefined,
    private readonly whose: { readonly caller: unknown; isCallerKnown: boolean },
    private readonly onTouch: () => void,
  ) {}

  get caller(): unknown {
    return this.whose.caller
  }

  /** The mark of what the client has. */
  get mark(): string {
    return this.#snapshot?.mark ?? this.known ?? ''
  }

  has(key: string): boolean {
    return this.#snapshot?.marks.has(key) === true
  }

  touch(): void {
    if (this.isOver) return
    this.isTouched = true
    this.onTouch()
  }

  touchCaller(): void {
    this.whose.isCallerKnown = false
    this.touch()
  }

  /**
   * What has to be sent, now that this is the list; nothing where the client has it so.
   *
   * @param tag the mark of all that was answered
   * @param read reads it, where it is another
   */
  become(rulebook: Rulebook, tag: string, read: () => Listed): Message | undefined {
    const before = this.#snapshot
    const mark = tag.slice(1, 17)
    const list = this.at
    if (before?.mark === mark) return undefined
    const { records, next } = read()
    const keyed = new Map(records.map((record) => [keyPath(rulebook.model, this.table, record), record]))
    const after = snapshotOf(keyed, mark)
    this.#snapshot = after
    if (!before && this.known === mark) return { event: 'current', data: { list } }
    const more = next !== undefined
    const difference = before && differenceOf(before, after, keyed)
    if (difference) return { event: 'changes', data: { list, ...difference, more } }
    return { event: 'records', data: { list, records, more } }
  }

  /** It is not listed any more. */
  end(problem: unknown): Message {
    this.isOver = true
    this.#snapshot = undefined
    return { event: 'refused', data: { list: this.at, problem } }
  }
}
