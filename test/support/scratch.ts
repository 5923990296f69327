import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const folders: string[] = []
process.once('exit', () => {
  for (const folder of folders) rmSync(folder, { recursive: true, force: true })
})

/**
 * A folder that is there until the process ends.
 *
 * @param beginning what its path begins with
 */
export function scratchFolder(beginning = join(tmpdir(), 'pachter-')): string {
  const folder = mkdtempSync(beginning)
  folders.push(folder)
  return folder
}
