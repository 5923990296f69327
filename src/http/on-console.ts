import { asideOf } from '../model/index.js'

/**
 * Tells the console of what went wrong on the server, with all that the error keeps from whoever made the request.
 *
 * @param layer who tells it
 */
export const onConsole =
  (layer: string) =>
  (error: unknown): void =>
    console.error(`pachter: ${layer}:`, error, ...Object.values(asideOf(error)))
