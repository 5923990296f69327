import type { JitiOptions } from 'jiti'
import { pathToFileURL } from 'node:url'

/**
 * Loads a module, TypeScript or JavaScript, without a build step.
 *
 * @param path the file, from the root
 * @returns what it exports
 */
export async function loadModule<T>(path: string, options: JitiOptions): Promise<T> {
  // It brings a compiler along, which takes longer to load than all the rest.
  const { createJiti } = await import('jiti/static')
  return createJiti(pathToFileURL(path).href, options).import<T>(path)
}
