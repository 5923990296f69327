import { randomBytes } from 'node:crypto'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { fileURLToPath } from 'node:url'
import { installTriggers } from 'pachter/live'
import { createApp } from './app.js'
import { about, callers } from './callers.js'
import { openDemoStore, readData } from './database.js'
import { type Account, startIdentityProvider } from './identity-provider.js'
import { model } from './model.js'

/** Where the demo is served. */
export interface Served {
  readonly address: string
  /** The identity provider's. */
  readonly issuer: string
  close(): Promise<void>
}

/** Loads the demo data and serves all of Korenveld on 127.0.0.1; port 0 takes any free ports. */
export async function serve(port: number): Promise<Served> {
  const store = await openDemoStore()
  const server = createServer()
  const origin = await listening(server, port)
  const provider = await startIdentityProvider(await accounts(), origin, { port: port && port + 1 })
  const pageFolder = fileURLToPath(new URL('page/dist', import.meta.url))
  const secret = randomBytes(32).toString('base64')
  for (const statement of installTriggers(model)) await store.query(statement, [])
  const { app, live } = await createApp({ store, origin, issuer: provider.issuer, secret, pageFolder })
  server.on('request', app)
  return {
    address: `${origin}/`,
    issuer: provider.issuer,
    close: async () => {
      await live.close()
      server.closeAllConnections()
      await new Promise((resolve) => server.close(resolve))
      await provider.close()
      await store.close?.()
    },
  }
}

async function listening(server: Server, port: number): Promise<string> {
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject)
    server.listen(port, '127.0.0.1', () => resolve())
  })
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}

/** Everybody who can sign in: the members, and somebody who is none yet. */
async function accounts(): Promise<ReadonlyMap<string, Account>> {
  const { members: stored = [] } = await readData()
  const said = new Map(Object.entries(callers).flatMap(([name, caller]) => ('id' in caller ? [[caller.id, name]] : [])))
  const members = stored.map((member): [string, Account] => {
    const [id, name, email] = ['id', 'name', 'email'].map((field) => String(member[field])) as [string, string, string]
    const known = said.get(Number(id)) as keyof typeof about | undefined
    return [id, { name, email, ...(known && { about: about[known] }) }]
  })
  const newcomer = { name: 'Zeno Castel', email: 'zeno@korenveld.example', about: 'is no member yet' }
  return new Map([...members, ['new', newcomer]])
}
