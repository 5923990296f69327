// Holds the size of what a browser loads to decide: minified and gzipped, at most 18 kB.
import { fileURLToPath } from 'node:url'
import { gzipSync } from 'node:zlib'
import { build } from 'esbuild'

/** kB of 1,000 bytes. */
export const MOST = 18

/** How many kB these exports of the core take, with all they need. */
export async function coreSize(names: readonly string[]): Promise<number> {
  const { outputFiles } = await build({
    stdin: {
      contents: `export { ${names.join(', ')} } from 'pachter'`,
      resolveDir: fileURLToPath(new URL('.', import.meta.url)),
    },
    bundle: true,
    minify: true,
    format: 'esm',
    write: false,
    logLevel: 'error',
    external: ['node:*'],
  })
  return gzipSync(outputFiles[0]?.contents ?? '', { level: 9 }).length / 1000
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const size = await coreSize(['decide', 'predicate'])
  const reading = await coreSize(['decide', 'predicate', 'readRulebook'])
  console.log(`decide and predicate: ${size.toFixed(1)} kB of ${MOST} kB; with readRulebook: ${reading.toFixed(1)} kB`)
  if (size > MOST) process.exitCode = 1
}
