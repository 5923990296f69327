import { execFile } from 'node:child_process'
import { access, mkdir, mkdtemp, readFile, rm } from 'node:fs/promises'
import { dirname, join, relative, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { promisify } from 'node:util'
import { readRulebook, type Rulebook } from '../rules/index.js'
import { UsageError } from './config.js'
import { loadModule } from './modules.js'

const run = promisify(execFile)

/**
 * Loads rules from a file: a rulebook in JSON, or a module that exports a configuration, or `rules`.
 * @throws {UsageError} where there is no such file, or it holds no rules
 * @throws {RulebookError} where the JSON is no rulebook
 */
export async function loadRules(file: string): Promise<Rulebook> {
  const path = resolve(file)
  await access(path).catch(() => {
    throw new UsageError(`There is no ${file} here.`)
  })
  if (path.endsWith('.json')) return readRulebook(await readFile(path, 'utf8'))
  // A file of an earlier revision has no package of its own to resolve this one from.
  const alias = await ownModules()
  const exported = await loadModule<{ readonly default?: { readonly rules?: Rulebook }; readonly rules?: Rulebook }>(
    path,
    { alias },
  )
  const rules = exported.rules ?? exported.default?.rules
  if (rules?.format === 'pachter-rulebook') return rules
  throw new UsageError(`${file} exports no rules: neither a configuration as its default, nor \`rules\`.`)
}

/**
 * Loads the rules of a configuration as they were at a revision of its git repository.
 * @throws {UsageError} where there is no repository, no such revision, or no such file in it
 */
export async function loadRulesAt(revision: string, file: string): Promise<Rulebook> {
  const path = resolve(file)
  const folder = dirname(path)
  const git = async (args: readonly string[], env = {}) => {
    const { stdout } = await run('git', ['-C', folder, ...args], { env: { ...process.env, ...env } })
    return stdout.trim()
  }
  const root = await git(['rev-parse', '--show-toplevel']).catch(() => {
    throw new UsageError(`${file} is in no git repository, so it has no earlier revisions.`)
  })
  const commit = await git(['rev-parse', '--verify', '--quiet', '--end-of-options', `${revision}^{commit}`]).catch(
    () => {
      throw new UsageError(`There is no revision ${JSON.stringify(revision)} in the repository of ${file}.`)
    },
  )
  // Beside the installed packages, so that what the rules import is found.
  const cache = join(await packagesFor(folder), '.cache')
  await mkdir(cache, { recursive: true })
  const copy = await mkdtemp(join(cache, 'pachter-'))
  try {
    // An index of its own: that of the repository stays as it is.
    const env = { GIT_INDEX_FILE: join(copy, '.index') }
    await git(['read-tree', commit], env)
    await git([`--work-tree=${root}`, 'checkout-index', '--all', `--prefix=${copy}/`], env)
    const then = join(copy, relative(root, path))
    await access(then).catch(() => {
      throw new UsageError(`At ${revision} there was no ${relative(root, path)}.`)
    })
    return await loadRules(then)
  } finally {
    await rm(copy, { recursive: true, force: true })
  }
}

/** The nearest folder of installed packages. */
async function packagesFor(folder: string): Promise<string> {
  const packages = join(folder, 'node_modules')
  const isThere = await access(packages).then(
    () => true,
    () => false,
  )
  if (isThere || dirname(folder) === folder) return packages
  return packagesFor(dirname(folder))
}

/** Where each entry point of this package is. */
async function ownModules(): Promise<Record<string, string>> {
  const root = fileURLToPath(new URL('../../', import.meta.url))
  const { name, exports } = JSON.parse(await readFile(join(root, 'package.json'), 'utf8')) as {
    readonly name: string
    readonly exports: Readonly<Record<string, string | { readonly default: string }>>
  }
  const entries = Object.entries(exports).map(([entry, to]) => {
    const file = typeof to === 'string' ? to : to.default
    return [join(name, entry), join(root, file)] as const
  })
  // The longest first: a shorter name is the beginning of every longer one.
  return Object.fromEntries(entries.sort(([left], [right]) => right.length - left.length))
}
