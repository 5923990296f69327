import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { dirname, join, relative, resolve } from 'node:path'
import { type Command } from 'commander'
import {
  adopt,
  type Adoption,
  type Catalogue,
  type Drift,
  driftOf,
  type FileChange,
  fileChanges,
  readCatalogue,
} from '../adopt/index.js'
import { openAddress } from './address.js'
import { loadConfig, UsageError } from './config.js'
import { addCommand, type Options, show } from './program.js'
import type { Shell } from './shell.js'
import { drawTable } from './table.js'

interface AdoptCommand extends Options {
  readonly folder: string
  readonly check: boolean
}

/** What was written last, beside the files: with it, what a person wrote is told from what was written here. */
interface Adopted {
  readonly catalogue: Catalogue
  readonly files: Readonly<Record<string, string>>
}

/** What adopting did. */
interface Told extends Pick<Adoption, 'tables' | 'people' | 'organisation' | 'left'> {
  readonly dialect: string
  readonly files: readonly Omit<FileChange, 'text'>[]
}

const RECORD = 'adopted.json'

/** `pachter adopt` */
export function addAdopt(program: Command, shell: Shell): void {
  addCommand(
    program,
    'adopt [address]',
    'a model and first rules from a database: postgres://…, mariadb://… or a file of SQLite; it is only read',
  )
    .option('--folder <name>', 'where model, caller and rules go, beside the configuration', 'access')
    .option('--check', 'writes nothing, and tells where model and database differ', false)
    .action(async (address: string | undefined, options: AdoptCommand) => {
      if (options.check) return check(shell, address, options)
      if (address === undefined) throw new UsageError('Name the database: pachter adopt <address>.')
      const store = await openAddress(address)
      try {
        await write(shell, store, address, options)
      } finally {
        await store.close()
      }
    })
}

async function write(shell: Shell, store: Parameters<typeof adopt>[0], address: string, options: AdoptCommand) {
  const { folder } = options
  if (!/^[\w-]+$/.test(folder)) throw new UsageError(`${folder} cannot be the folder: it is a name, without a path.`)
  const root = dirname(resolve(options.config))
  const file = address.includes('://') ? undefined : relative(root, resolve(address)).replaceAll('\\', '/')
  const made = await adopt(store, { folder, ...(file !== undefined && { file: `./${file}` }) })
  if (made.catalogue.tables.length === 0) {
    throw new UsageError('The database shows this user no table: there is none, or USAGE on its schema is not granted.')
  }
  const last = adoptedIn(root, folder)
  const names = Object.keys(made.files)
  if (!last) {
    const there = names.find((name) => existsSync(join(root, name)))
    if (there)
      throw new UsageError(
        `${there} is there already, and was not written by adopt: name another --folder, or move it away.`,
      )
  }
  const textOf = (name: string) => (existsSync(join(root, name)) ? readFileSync(join(root, name), 'utf8') : undefined)
  const changes = fileChanges(made.files, last?.files ?? {}, textOf)
  mkdirSync(join(root, folder), { recursive: true })
  for (const { name, text } of changes) writeFileSync(join(root, name), text)
  const adopted: Adopted = { catalogue: made.catalogue, files: made.files }
  writeFileSync(join(root, folder, RECORD), `${JSON.stringify(adopted, null, 2)}\n`)
  const { catalogue, tables, people, organisation, left } = made
  const told: Told = {
    dialect: catalogue.dialect,
    tables,
    ...(people !== undefined && { people }),
    ...(organisation !== undefined && { organisation }),
    left,
    files: changes.map(({ name, state, left: lines }) => ({ name, state, left: lines })),
  }
  show(shell, options, told, printTold)
}

function adoptedIn(root: string, folder: string): Adopted | undefined {
  const path = join(root, folder, RECORD)
  if (!existsSync(path)) return undefined
  try {
    return JSON.parse(readFileSync(path, 'utf8')) as Adopted
  } catch (error) {
    throw new UsageError(`${folder}/${RECORD} is not as adopt wrote it; take it back from version control.`, {
      cause: error,
    })
  }
}

async function check(shell: Shell, address: string | undefined, options: AdoptCommand): Promise<void> {
  const config = await loadConfig(options.config)
  if (address === undefined && !config.store) throw new UsageError(`${options.config} has no store; name the database.`)
  const store = address === undefined ? await config.store?.() : await openAddress(address)
  if (!store) return
  try {
    const now = await readCatalogue(store)
    const then = adoptedIn(dirname(resolve(options.config)), options.folder)?.catalogue
    const drifts = driftOf(config.rules.model, now, then)
    show(shell, options, drifts, printDrifts)
    if (drifts.length > 0) shell.fallShort()
  } finally {
    await store.close?.()
  }
}

const printDrifts = (drifts: readonly Drift[]): string =>
  drifts.length === 0
    ? 'Model and database are of one mind.'
    : drawTable(
        ['in the model', 'and the database'],
        drifts.map(({ what, is }) => [what, is]),
      )

function printTold({ dialect, tables, people, organisation, left, files }: Told): string {
  const closed = tables.filter(({ open }) => !open).map(({ name }) => name)
  const unwritten = files.flatMap(({ name, left: lines }) => lines.map((line) => [name, line.trim()]))
  return [
    `${tables.length} tables of a database of ${NAMES[dialect]}; ${people === undefined ? 'none looks like that of the people who sign in' : `${people} are the people who sign in`}${organisation === undefined ? '' : `, each in one of ${organisation}`}.`,
    drawTable(
      ['file', ''],
      files.map(({ name, state }) => [name, state]),
    ),
    ...(left.length > 0
      ? [
          drawTable(
            ['left out', 'since it'],
            left.map(({ what, why }) => [what, why]),
          ),
        ]
      : []),
    ...(unwritten.length > 0 ? [drawTable(['not written, since you wrote otherwise there', ''], unwritten)] : []),
    ...(closed.length > 0 ? [`Closed, since nothing suggests who may do what: ${closed.join(', ')}.`] : []),
    'Read the rules through. Then: pachter grid, for who may do what; pachter see --unguarded, for what each gets with them and without.',
  ].join('\n\n')
}

const NAMES: Readonly<Record<string, string>> = { postgresql: 'PostgreSQL', mariadb: 'MariaDB', sqlite: 'SQLite' }
