import { existsSync } from 'node:fs'
import type { LaunchOptions } from 'playwright-core'
import { scratchFolder } from './scratch.js'

/** Where Chromium is: `PACHTER_CHROMIUM`, or Debian's place. */
export const chromiumPath = process.env['PACHTER_CHROMIUM'] ?? '/usr/bin/chromium'

/** Whether the page tests can run here. */
export const hasChromium = existsSync(chromiumPath)

/** How Chromium is started: headless, quiet on the network, with a profile of its own. */
export function browserOptions(): LaunchOptions {
  return {
    executablePath: chromiumPath,
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
    env: { ...process.env, HOME: scratchFolder() },
  }
}
