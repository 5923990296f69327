import { type ChildProcess, execFileSync, spawn } from 'node:child_process'
import { chownSync, existsSync, mkdirSync, readdirSync, rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { scratchFolder } from './scratch.js'

/** A throw-away database server: where it is, and how to end it. */
export interface Server {
  readonly url: string
  stop(): Promise<void>
}

const isRoot = process.getuid?.() === 0

/** Where the programs of PostgreSQL are, newest version first; Debian keeps them out of the path. */
function postgresqlFolder(): string | undefined {
  const root = '/usr/lib/postgresql'
  const versions = existsSync(root) ? readdirSync(root).sort((left, right) => Number(right) - Number(left)) : []
  return versions.map((version) => join(root, version, 'bin')).find((folder) => existsSync(join(folder, 'postgres')))
}

const MARIADB = ['/usr/sbin/mariadbd', '/usr/local/sbin/mariadbd'].find(existsSync)

/** What makes a cluster of several. */
const GALERA = '/usr/lib/galera/libgalera_smm.so'

/** Which servers the tests can reach here. */
export const available = {
  postgresql: process.env['PACHTER_POSTGRESQL_URL'] !== undefined || postgresqlFolder() !== undefined,
  mariadb: process.env['PACHTER_MARIADB_URL'] !== undefined || MARIADB !== undefined,
  cluster: MARIADB !== undefined && existsSync(GALERA),
}

/** Starts a PostgreSQL server on a free port of 127.0.0.1, or names the one in `PACHTER_POSTGRESQL_URL`. */
export async function startPostgresql(): Promise<Server> {
  const own = process.env['PACHTER_POSTGRESQL_URL']
  if (own) return { url: own, stop: async () => undefined }
  const bin = postgresqlFolder()
  if (!bin) throw new Error('PostgreSQL is not installed; see docs/testing.md.')
  const { folder, user } = dataFolder('postgres')
  asUser(user, join(bin, 'initdb'), ['-D', folder, '-U', 'pachter', '-A', 'trust', '-E', 'UTF8', '--locale=C', '-N'])
  const port = await freePort()
  // Just-in-time compilation takes longer than all else for rules of this size on tables of this size.
  const options = [
    '-c',
    'fsync=off',
    '-c',
    'jit=off',
    '-c',
    'listen_addresses=127.0.0.1',
    '-k',
    folder,
    '-p',
    String(port),
  ]
  const server = startAs(user, join(bin, 'postgres'), ['-D', folder, ...options])
  const url = `postgres://pachter@127.0.0.1:${port}/postgres`
  // It listens before it lets anybody in.
  return ready(server, folder, port, url, () => letsIn(url))
}

/** Starts a MariaDB server on a free port of 127.0.0.1, or names the one in `PACHTER_MARIADB_URL`. */
export async function startMariadb(): Promise<Server> {
  const own = process.env['PACHTER_MARIADB_URL']
  if (own) return { url: own, stop: async () => undefined }
  const { url, port, stop } = await launchMariadb()
  execFileSync('mariadb', ['--no-defaults', '-uroot', '-h127.0.0.1', `-P${port}`, '-e', CREATE])
  return { url, stop }
}

const CREATE = 'CREATE DATABASE pachter CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci'

/** Nothing has to outlast the tests; so it takes a fifth of the time to make the tables of a drawn world. */
const FORGETFUL = [
  '--debug-no-sync',
  '--innodb-flush-log-at-trx-commit=0',
  '--innodb-flush-method=nosync',
  '--skip-innodb-doublewrite',
]

/** Starts a MariaDB server with these options besides, without a database in it. */
async function launchMariadb(...options: readonly string[]): Promise<Server & { readonly port: number }> {
  if (!MARIADB) throw new Error('MariaDB is not installed; see docs/testing.md.')
  const { folder, user } = dataFolder('mysql')
  const data = join(folder, 'data')
  const anyone = ['--auth-root-authentication-method=normal', '--skip-test-db']
  // A server that starts takes away what others have in the same folder for a while.
  const own = ['--no-defaults', `--datadir=${data}`, `--tmpdir=${folder}`]
  asUser(user, 'mariadb-install-db', [...own, ...anyone])
  const port = await freePort()
  const server = startAs(user, MARIADB, [
    ...own,
    `--socket=${join(folder, 'socket')}`,
    `--port=${port}`,
    '--bind-address=127.0.0.1',
    ...FORGETFUL,
    '--innodb-buffer-pool-size=512M',
    ...options,
  ])
  return { port, ...(await ready(server, folder, port, `mysql://root@127.0.0.1:${port}/pachter`)) }
}

/** On a busy machine, a node may not answer for longer than the 5 seconds after which the other would take it for lost. */
const PATIENT = 'evs.inactive_timeout=PT120S;evs.suspect_timeout=PT60S;evs.install_timeout=PT60S'

/** Starts two MariaDB servers that are one cluster. */
export async function startCluster(): Promise<readonly [Server, Server]> {
  const group = await freePort()
  const node = async (own: number, addresses: string) => {
    const [state, transfer] = [await freePort(), await freePort()]
    return launchMariadb(
      '--wsrep-on=ON',
      `--wsrep-provider=${GALERA}`,
      `--wsrep-cluster-address=gcomm://${addresses}`,
      `--wsrep-node-address=127.0.0.1:${own}`,
      `--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:${own};ist.recv_addr=127.0.0.1:${state};${PATIENT}`,
      '--wsrep-sst-method=rsync',
      `--wsrep-sst-receive-address=127.0.0.1:${transfer}`,
      '--binlog-format=ROW',
      '--innodb-autoinc-lock-mode=2',
      '--innodb-buffer-pool-size=64M',
    )
  }
  const first = await node(group, '')
  execFileSync('mariadb', ['--no-defaults', '-uroot', '-h127.0.0.1', `-P${first.port}`, '-e', CREATE])
  return [first, await node(await freePort(), `127.0.0.1:${group}`)]
}

/** An empty folder that belongs to whoever runs the server: database servers refuse to run as root. */
export function dataFolder(account: string): { folder: string; user: string | undefined } {
  const folder = join(scratchFolder(), 'server')
  mkdirSync(folder)
  if (!isRoot) return { folder, user: undefined }
  const id = (flag: string) => Number(execFileSync('id', [flag, account], { encoding: 'utf8' }))
  for (const each of [join(folder, '..'), folder]) chownSync(each, id('-u'), id('-g'))
  return { folder, user: account }
}

export const command = (user: string | undefined, program: string, args: readonly string[]): [string, string[]] =>
  user === undefined ? [program, [...args]] : ['runuser', ['-u', user, '--', program, ...args]]

function asUser(user: string | undefined, program: string, args: readonly string[]): void {
  execFileSync(...command(user, program, args), { stdio: ['ignore', 'ignore', 'inherit'], cwd: tmpdir() })
}

function startAs(user: string | undefined, program: string, args: readonly string[]): ChildProcess {
  return spawn(...command(user, program, args), { stdio: 'ignore', cwd: tmpdir() })
}

export async function freePort(): Promise<number> {
  const server = createServer()
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const address = server.address()
  await new Promise((resolve) => server.close(resolve))
  return typeof address === 'object' && address ? address.port : 0
}

/** Waits until the server can be reached, two minutes at most. */
export async function ready(
  server: ChildProcess,
  folder: string,
  port: number,
  url: string,
  isThere = () => canConnect(port),
): Promise<Server> {
  const ended = new Promise<void>((resolve) => server.once('exit', () => resolve()))
  const stop = async () => {
    server.kill('SIGTERM')
    await ended
    rmSync(join(folder, '..'), { recursive: true, force: true })
  }
  for (let tries = 0; tries < 1200; tries += 1) {
    if (await isThere()) return { url, stop }
    await new Promise((resolve) => setTimeout(resolve, 100))
  }
  await stop()
  throw new Error(`The server on port ${port} did not start.`)
}

async function letsIn(connectionString: string): Promise<boolean> {
  const client = new pg.Client({ connectionString })
  client.on('error', () => undefined)
  try {
    await client.connect()
    await client.end()
    return true
  } catch {
    return false
  }
}

async function canConnect(port: number): Promise<boolean> {
  const { connect } = await import('node:net')
  return new Promise((resolve) => {
    const socket = connect(port, '127.0.0.1')
    socket.once('connect', () => resolve(true)).once('error', () => resolve(false))
    socket.once('connect', () => socket.destroy())
  })
}
