import { keyFieldsOf, PachterError } from '../../model/index.js'
import type { Compilation } from '../condition.js'
import { areKnown, hasTrait } from '../traits.js'

/**
 * What would be written to a table could not be taken back again, and nothing there is locked: neither could a write that fails
 * in part be undone, nor a right be held to until it is done. HTTP status 500; nothing was run.
 */
export class LastingTableError extends PachterError {
  readonly code = 'table-lasting'
  readonly status = 500

  constructor(tables: readonly string[]) {
    super(
      `What is written to ${tables.join(', ')} lasts: the engine takes no part in transactions. ` +
        'Nothing was written; use InnoDB.',
    )
  }
}

/** @throws {LastingTableError} where what is written to a table could not be taken back */
export function refuseLasting(compilation: Compilation, table: string): void {
  const { rulebook, traits } = compilation
  const [key] = keyFieldsOf(rulebook.model, table)
  if (key && areKnown(traits) && hasTrait(compilation, table, key[0], 'lasting')) throw new LastingTableError([table])
}
