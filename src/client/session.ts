import { bigIntAsText } from '../model/index.js'

/** Who has signed in, as far as their browser is told. */
export interface SessionState {
  readonly signedIn: boolean
  /** What they are called, where the provider says. */
  readonly name: string | null
  /** Who they are by the rules: `id`, attributes. */
  readonly caller: Readonly<Record<string, unknown>>
  /** The roles they have, not long ago at most. */
  readonly roles: readonly string[]
}

/**
 * What became of who has signed in: `signed-out`, here or in another window; `ended`, where the server says that the session is
 * over; `signed-in`, by whoever it was, after that; `another`, who must not see what was shown before.
 */
export type SessionEvent = 'signed-out' | 'ended' | 'signed-in' | 'another'

/** What hears of that; with who it is by now, where that is known. */
export type SessionEar = (what: SessionEvent, now?: SessionState) => void

/** Whether one caller is the other, by what the server says of both. */
const isSameCaller = (one: SessionState['caller'], other: SessionState['caller']): boolean =>
  JSON.stringify(one, bigIntAsText) === JSON.stringify(other, bigIntAsText)

/** What windows of one browser tell each other. */
type Told = 'signed-out' | 'signed-in'

/** How long what was answered is taken to be so, in a page. */
const FRESH_MILLISECONDS = 30_000

/** Whether this is a page, which is one person's, and has other windows beside it: a server that draws pages is everybody's. */
const isPage = (): boolean => 'document' in globalThis

/** What a session is asked with, and what becomes of the rest of the client. */
export interface Around {
  /** Asks the server. */
  ask(): Promise<SessionState>
  /** Forgets what is the session's. */
  forget(): void
  /** Asks for all lists anew. */
  restart(): void
}

/** Who has signed in, as far as this window knows, and what becomes of that. */
export class Sessions {
  readonly #ears = new Set<SessionEar>()
  readonly #windows: Windows
  #asked: Promise<SessionState> | undefined
  #askedAt = 0
  /** Whether anything was answered yet, and for whom what is shown then is. */
  #isKnown = false
  #whose: SessionState['caller'] | undefined
  #hasEnded = false
  #isAnnounced = false

  constructor(private readonly around: Around) {
    this.#windows = new Windows((told) => (told === 'signed-out' ? this.#leave() : void this.check()))
  }

  /** As it was a moment ago, or is now. */
  current(): Promise<SessionState> {
    const before = isPage() ? this.#asked : undefined
    if (before && Date.now() - this.#askedAt < FRESH_MILLISECONDS) return before
    return this.#ask(false, before)
  }

  /** Who has signed in may be another by now: whatever was shown is theirs, or goes. */
  async check(): Promise<void> {
    this.#isAnnounced = true
    this.around.forget()
    await this.#ask(true).catch(() => this.#emit('another'))
  }

  /** Somebody may have signed in or out here, in another way than by the pages that do that. */
  async changed(): Promise<void> {
    this.#windows.tell('signed-in')
    await this.check()
  }

  /** The server says that it is over. */
  ended(): void {
    this.#forget()
    this.#emit('ended')
  }

  /** It was ended here. */
  signedOut(): void {
    this.#leave()
    this.#windows.tell('signed-out')
  }

  /** Whether somebody has signed in, as far as is known. */
  get isOpen(): boolean {
    return this.#whose !== undefined && !this.#hasEnded
  }

  hear(ear: SessionEar): () => void {
    this.#ears.add(ear)
    return () => void this.#ears.delete(ear)
  }

  close(): void {
    this.#windows.close()
  }

  #leave(): void {
    this.#whose = undefined
    this.#forget()
    this.#emit('signed-out')
  }

  #forget(): void {
    this.#asked = undefined
    this.around.forget()
  }

  /** @param before what is so until more is known, where the server does not answer */
  #ask(isCheck: boolean, before?: Promise<SessionState>): Promise<SessionState> {
    this.#askedAt = Date.now()
    const asked = this.around.ask().then(
      (now) => {
        // Of what was asked before somebody came or went, nothing follows.
        if (this.#asked === asked) this.#note(now, isCheck)
        return now
      },
      (error: unknown) => {
        if (this.#asked === asked) this.#asked = before
        if (before) return before
        throw error
      },
    )
    this.#asked = asked
    return asked
  }

  #note(now: SessionState, isCheck: boolean): void {
    const [before, wasKnown] = [this.#whose, this.#isKnown]
    this.#isKnown = true
    if (!now.signedIn) {
      if (wasKnown && isCheck) this.#emit('another', now)
      else if (before !== undefined && !this.#hasEnded) this.#emit('ended', now)
      return
    }
    this.#whose = now.caller
    // Windows that were left behind by a session that ended go on.
    if (!this.#isAnnounced) this.#windows.tell('signed-in')
    this.#isAnnounced = true
    const isSame = before !== undefined && isSameCaller(before, now.caller)
    if (before !== undefined && !isSame) this.#emit('another', now)
    else if (isSame ? this.#hasEnded : wasKnown) this.#emit('signed-in', now)
  }

  #emit(what: SessionEvent, now?: SessionState): void {
    this.#hasEnded = what === 'ended'
    if (what === 'another' && !now?.signedIn) this.#whose = undefined
    for (const hear of this.#ears) hear(what, now)
    if (what !== 'ended') this.around.restart()
  }
}

/** Tells the other windows of this browser, and hears from them; nobody, where there are none. */
class Windows {
  readonly #channel: BroadcastChannel | undefined

  constructor(hear: (told: Told) => void) {
    if (!isPage()) return
    this.#channel = typeof BroadcastChannel === 'undefined' ? undefined : new BroadcastChannel('pachter')
    // Of what only stands for a page, as in a test, it keeps nobody waiting.
    ;(this.#channel as { unref?(): void } | undefined)?.unref?.()
    this.#channel?.addEventListener('message', ({ data }: MessageEvent<Told>) => hear(data))
    // A page that is gone back to stands there as it was left, whoever has signed in or out since.
    const page = globalThis as unknown as Partial<Pick<EventTarget, 'addEventListener'>>
    page.addEventListener?.('pageshow', (event) => {
      if ((event as Event & { readonly persisted?: boolean }).persisted) hear('signed-in')
    })
  }

  tell(told: Told): void {
    this.#channel?.postMessage(told)
  }

  close(): void {
    this.#channel?.close()
  }
}
