import type { Connection } from '../sql/index.js'

/**
 * Runs work in a transaction on one connection, which is committed, or rolled back where the work throws.
 *
 * @param begin the statements that begin it
 * @param release called once at the end, with `true` where the connection is no longer fit for use
 */
export async function inTransaction<T>(
  connection: Connection,
  begin: readonly string[],
  work: (connection: Connection) => Promise<T>,
  release: (broken: boolean) => void = () => undefined,
): Promise<T> {
  let broken = true
  try {
    for (const statement of begin) await connection.query(statement, [])
    try {
      const done = await work(connection)
      await connection.query('COMMIT', [])
      broken = false
      return done
    } catch (error) {
      // Where even that fails, the connection is not used again, and the first error is the one to tell.
      broken = !(await isRolledBack(connection))
      throw error
    }
  } finally {
    release(broken)
  }
}

async function isRolledBack(connection: Connection): Promise<boolean> {
  try {
    await connection.query('ROLLBACK', [])
    return true
  } catch {
    return false
  }
}
