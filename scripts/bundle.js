// Bundles the package: few files load several times faster than many, and each piece is in one of them only.
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { dirname, join, relative } from 'node:path'
import { fileURLToPath } from 'node:url'
import { build } from 'esbuild'

const root = fileURLToPath(new URL('..', import.meta.url))
const { exports, peerDependencies } = JSON.parse(readFileSync(`${root}package.json`, 'utf8'))
const sources = Object.values(exports).flatMap((entry) =>
  entry.default ? [entry.default.replace('./dist/', 'src/').replace(/[.]js$/, '.ts')] : [],
)
const shared = { absWorkingDir: root, bundle: true, format: 'esm', target: 'es2023' }
const ours = { ...shared, platform: 'neutral', sourcemap: true, metafile: true }

for (const folder of ['chunks', 'libraries']) rmSync(`${root}dist/${folder}`, { recursive: true, force: true })

/**
 * The libraries the command line and the checks use. They are in the package, so that an application that only
 * enforces rules installs nothing but Pachter; what a user brings, such as a driver, stays outside.
 */
const libraries = new Map()
/** Those that pages load: they become part of what uses them, since nothing of Node's may come with them. */
const FOR_PAGES = ['eventsource-parser']
const nameOf = (path) => path.match(/^(?:@[^/]+[/])?[^/]+/)[0]
const brings = {
  name: 'brings-its-libraries',
  setup: ({ onResolve }) => {
    onResolve({ filter: /^[^.#/]/ }, ({ path, kind }) => {
      if (kind === 'entry-point') return
      if (path.startsWith('node:') || nameOf(path) in peerDependencies) return { path, external: true }
      if (FOR_PAGES.includes(nameOf(path))) return undefined
      const library = path.replaceAll('/', '-')
      libraries.set(library, path)
      return { path: `#libraries/${library}`, external: true }
    })
  },
}

/** The core is one file, which whatever uses a part of it loads at once; each of its layers gives out its own names. */
const CORE = ['model', 'condition', 'rules', 'decide'].map((layer) => `src/${layer}/index.ts`)
await build({
  ...ours,
  stdin: { contents: CORE.map((source) => `export * from './${source}'`).join('\n'), resolveDir: root },
  outfile: 'dist/core.js',
})
const usesCore = {
  name: 'uses-the-core',
  setup: ({ onResolve }) => {
    onResolve({ filter: /^[.].*[/]index[.]js$/ }, ({ path, importer }) => {
      const source = relative(root, join(dirname(importer), path)).replace(/[.]js$/, '.ts')
      return CORE.includes(source) ? { path: 'the-core', external: true, sideEffects: false } : undefined
    })
  },
}

const own = await build({
  ...ours,
  entryPoints: [...sources.filter((source) => !CORE.includes(source)), 'src/cli/main.ts', 'src/cli/run.ts'],
  splitting: true,
  outdir: 'dist',
  outbase: 'src',
  chunkNames: 'chunks/[name]-[hash]',
  write: false,
  plugins: [usesCore, brings],
})
/** Writes a file, which names the core by where that is from there. */
function write(file, textFrom) {
  mkdirSync(dirname(file), { recursive: true })
  writeFileSync(file, textFrom(JSON.stringify(`./${relative(dirname(file), `${root}dist/core.js`)}`)))
}
for (const { path, text } of own.outputFiles) {
  write(path, (core) => (path.endsWith('.js') ? text.replaceAll('"the-core"', core) : text))
}

const layers = await build({ ...ours, entryPoints: CORE, outdir: 'dist', outbase: 'src', write: false })
for (const [file, { exports: names, entryPoint }] of Object.entries(layers.metafile.outputs)) {
  if (entryPoint) write(`${root}${file}`, (core) => `export { ${names.join(', ')} } from ${core}\n`)
}

/** Gives a library out under the names Node gives it, also where it is CommonJS. */
const namesOfNode = {
  name: 'names-of-node',
  setup: ({ onResolve, onLoad }) => {
    onResolve({ filter: /./ }, ({ path, kind }) =>
      kind === 'entry-point' ? { path, namespace: 'library' } : undefined,
    )
    onLoad({ filter: /./, namespace: 'library' }, async ({ path }) => {
      const names = Object.keys(await import(path)).filter((name) => name !== 'module.exports')
      return { contents: `export { ${names.join(', ')} } from '${path}'`, resolveDir: root }
    })
  },
}

const { metafile } = await build({
  ...shared,
  splitting: true,
  entryPoints: [...libraries].map(([out, path]) => ({ in: path, out })),
  outdir: 'dist/libraries',
  platform: 'node',
  // Those that are CommonJS ask for Node's modules by `require`.
  banner: { js: "import { createRequire } from 'node:module'; const require = createRequire(import.meta.url);" },
  minify: true,
  legalComments: 'none',
  chunkNames: 'chunk-[hash]',
  metafile: true,
  plugins: [namesOfNode],
})

/** Whose code is in the package, and under what terms. */
const inputs = [own, { metafile }]
  .flatMap((each) => Object.keys(each.metafile.inputs))
  .filter((path) => path.startsWith('node_modules/'))
const folders = new Set(inputs.map((path) => path.match(/^.*node_modules[/](?:@[^/]+[/])?[^/]+/)[0]))
const licences = [...folders].sort().map((folder) => {
  const { name, version, license } = JSON.parse(readFileSync(`${root}${folder}/package.json`, 'utf8'))
  const file = ['LICENSE', 'LICENSE.md', 'license', 'LICENSE.txt'].find((each) =>
    existsSync(`${root}${folder}/${each}`),
  )
  return `${name} ${version} (${license})\n\n${file ? readFileSync(`${root}${folder}/${file}`, 'utf8').trim() : ''}\n`
})
writeFileSync(`${root}dist/libraries/LICENSES.txt`, licences.join(`\n${'-'.repeat(80)}\n\n`))

// The JSON Schema of rulebooks, for editors and other languages.
const { rulebookSchema } = await import('../dist/rules/index.js')
writeFileSync(`${root}dist/rulebook.schema.json`, `${JSON.stringify(rulebookSchema, null, 2)}\n`)
