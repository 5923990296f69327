/** A connection of `pg` that can listen. */
export interface Listener {
  connect(): Promise<unknown>
  query(query: { text: string; values: unknown[] }): Promise<unknown>
  on(event: 'error' | 'end', hear: () => void): unknown
  on(
    event: 'notification',
    hear: (notification: { readonly channel: string; readonly payload?: string }) => void,
  ): unknown
  end(): Promise<void>
}

/** How long it is waited before a lost connection is opened again, and how often it is looked whether it is lost. */
const AGAIN_MILLISECONDS = 500
const ALIVE_MILLISECONDS = 15_000

/**
 * Listens on a channel, on a connection of its own that is opened anew where it is lost; then whoever hears is told of
 * nothing, since something may have gone by.
 *
 * @param open makes a connection
 * @returns what ends it
 * @throws what the first connection throws
 */
export async function listening(
  open: () => Listener,
  channel: string,
  hear: (payload?: string) => void,
): Promise<() => Promise<void>> {
  let isOver = false
  let current: Listener | undefined
  let timer: NodeJS.Timeout | undefined

  const lost = (listener: Listener) => {
    if (isOver || current !== listener) return
    current = undefined
    void listener.end().catch(() => undefined)
    timer = setTimeout(() => void again(), AGAIN_MILLISECONDS)
  }
  const again = async () => {
    try {
      await begin()
      hear()
    } catch {
      timer = setTimeout(() => void again(), AGAIN_MILLISECONDS)
    }
  }
  const begin = async () => {
    const listener = open()
    for (const event of ['error', 'end'] as const) listener.on(event, () => lost(listener))
    listener.on('notification', (notification) => {
      if (notification.channel === channel) hear(notification.payload)
    })
    await listener.connect()
    await listener.query({ text: `LISTEN "${channel}"`, values: [] })
    if (isOver) return void listener.end().catch(() => undefined)
    current = listener
  }
  // A peer that vanished says nothing: it has to be asked.
  const alive = setInterval(() => {
    const asked = current
    if (!asked) return
    const late = setTimeout(() => lost(asked), ALIVE_MILLISECONDS)
    asked.query({ text: 'SELECT 1', values: [] }).then(
      () => clearTimeout(late),
      () => lost(asked),
    )
  }, ALIVE_MILLISECONDS)

  const stop = async () => {
    isOver = true
    clearInterval(alive)
    clearTimeout(timer)
    await current?.end()
  }
  try {
    await begin()
  } catch (error) {
    await stop()
    throw error
  }
  return stop
}
