import type { Place } from '../../guard/index.js'
import { Level } from './level.js'
import { tellable } from './query.js'
import type { Connection, Database } from './sql-store.js'

/** Where statements are run: in the store as it is, or in a transaction. */
export interface SqlPlace extends Place, Connection {}

/** The store as it is, each statement on its own. */
export function outermost(database: Database): SqlPlace {
  const { dialect } = database
  return {
    isInside: false,
    query: (text, values, signal) => database.query(text, values, signal),
    transaction: async (work) => {
      // What the work itself throws is the application's own.
      const own: { error?: unknown } = {}
      try {
        return await database.transaction((connection) =>
          Level.whole(connection, dialect, (level) =>
            work(level).catch((error: unknown) => {
              own.error = error
              throw error
            }),
          ),
        )
      } catch (error) {
        throw error === own.error ? error : tellable(dialect, error)
      }
    },
  }
}
