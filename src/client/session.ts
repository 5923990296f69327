import { bigIntAsText } from '../model/index.js'

/** Who has signed in, as far as their browser is told. */
export interface SessionState {
  readonly signedIn: boolean
  /** What they are called, where the provider says. */
  readonly name: string | null
  /** Who they are by the rules: `id`, attributes. */
  readonly caller: Readonly<Record<string, unknown>>
  /** The roles they have at this moment. */
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
export const isSameCaller = (one: SessionState['caller'], other: SessionState['caller']): boolean =>
  JSON.stringify(one, bigIntAsText) === JSON.stringify(other, bigIntAsText)

/** What windows of one browser tell each other. */
export type Told = 'signed-out' | 'signed-in'

/** Tells the other windows of this browser, and hears from them; nobody, where a browser has no such thing. */
export class Windows {
  readonly #channel: BroadcastChannel | undefined

  constructor(hear: (told: Told) => void) {
    this.#channel = typeof BroadcastChannel === 'undefined' ? undefined : new BroadcastChannel('pachter')
    // Of a program that is no page, it keeps nobody waiting.
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
