import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'
import { createGuard } from 'pachter'
import { createApp } from './app.js'
import { openDemoStore } from './database.js'
import { rules } from './rules.js'

/** Loads the demo data and serves the built page on 127.0.0.1; port 0 takes any free port. */
export async function serve(port: number): Promise<{ readonly address: string; close(): Promise<void> }> {
  const store = await openDemoStore()
  const app = createApp(createGuard({ rules, store }), fileURLToPath(new URL('page/dist', import.meta.url)))
  const server = createServer(app)
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject)
    server.listen(port, '127.0.0.1', resolve)
  })
  return {
    address: `http://127.0.0.1:${(server.address() as AddressInfo).port}/`,
    close: async () => {
      server.closeAllConnections()
      await new Promise((resolve) => server.close(resolve))
      await store.close?.()
    },
  }
}
