import { spawn } from 'node:child_process'
import { existsSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { dataFolder, freePort, command, ready, type Server } from './servers.js'

/** PgBouncer, where Debian puts it. */
export const PGBOUNCER = '/usr/sbin/pgbouncer'

export const hasPgbouncer = existsSync(PGBOUNCER)

/** Starts PgBouncer in transaction mode before a PostgreSQL server: each transaction goes to whatever connection is free. */
export async function startPgbouncer(url: string, connections: number): Promise<Server> {
  const { hostname, port: behind, username } = new URL(url)
  const { folder, user } = dataFolder('postgres')
  const port = await freePort()
  const settings = join(folder, 'pgbouncer.ini')
  writeFileSync(
    settings,
    [
      '[databases]',
      `postgres = host=${hostname} port=${behind} user=${username}`,
      '[pgbouncer]',
      'listen_addr = 127.0.0.1',
      `listen_port = ${port}`,
      'unix_socket_dir =',
      'auth_type = any',
      'pool_mode = transaction',
      `default_pool_size = ${connections}`,
      'max_client_conn = 100',
      'ignore_startup_parameters = extra_float_digits,options',
    ].join('\n'),
  )
  const server = spawn(...command(user, PGBOUNCER, ['-q', settings]), { stdio: 'ignore' })
  return ready(server, folder, port, `postgres://${username}@127.0.0.1:${port}/postgres`)
}
