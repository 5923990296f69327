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
      // Where even that fails, the connection is not used again, and the first error is the one to tell.
      broken = !(await isRolledBack(connection))
      throw error
    }
  } finally {
    release(broken)
  }
}

/** Runs work as a part of a transaction, which alone is taken back where it throws. */
export async function inSavepoint<T>(connection: Connection, name: string, work: () => Promise<T>): Promise<T> {
  await connection.query(`SAVEPOINT ${name}`, [])
  try {
    const done = await work()
    await connection.query(`RELEASE SAVEPOINT ${name}`, [])
    return done
  } catch (error) {
    await connection.query(`ROLLBACK TO SAVEPOINT ${name}`, [])
    throw error
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
