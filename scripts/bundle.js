// Bundles the package: few files load several times faster than many, and each piece is in one of them only.
import { readFileSync, rmSync, writeFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { build } from 'esbuild'

const root = fileURLToPath(new URL('..', import.meta.url))
const { exports } = JSON.parse(readFileSync(`${root}package.json`, 'utf8'))
const sources = Object.values(exports).flatMap((entry) =>
  entry.default ? [entry.default.replace('./dist/', 'src/').replace(/[.]js$/, '.ts')] : [],
)

rmSync(`${root}dist/chunks`, { recursive: true, force: true })
await build({
  absWorkingDir: root,
  entryPoints: [...sources, 'src/cli/main.ts', 'src/cli/run.ts'],
  outdir: 'dist',
  outbase: 'src',
  bundle: true,
  splitting: true,
  format: 'esm',
  platform: 'neutral',
  target: 'es2023',
  packages: 'external',
  external: ['node:*'],
  sourcemap: true,
  chunkNames: 'chunks/[name]-[hash]',
})

// The JSON Schema of rulebooks, for editors and other languages.
const { rulebookSchema } = await import('../dist/rules/index.js')
writeFileSync(`${root}dist/rulebook.schema.json`, `${JSON.stringify(rulebookSchema, null, 2)}\n`)
