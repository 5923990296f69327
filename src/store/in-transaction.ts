import type { Connection } from './store.js'

/**
 * Runs work between BEGIN and COMMIT on one connection, or ROLLBACK where it throws.
 *
 * @param release called once at the end, with `true` where the connection is no longer fit for use
 */
export async function inTransaction<T>(
  connection: Connection,
  work: (connection: Connection) => Promise<T>,
  release: (broken: boolean) => void = () => undefined,
): Promise<T> {
  let broken = true
  try {
    await connection.query('BEGIN', [])
    try {
      const done = await work(connection)
      await connection.query('COMMIT', [])
      broken = false
      return done
    } catch (error) {
      await connection.query('ROLLBACK', [])
      broken = false
      throw error
    }
  } finally {
    release(broken)
  }
}
