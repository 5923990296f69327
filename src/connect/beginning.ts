import { type Connection, mariadb } from '../sql/index.js'

/** The nodes of a Galera cluster lag behind one another. Other servers may have no such variables at all. */
const CLUSTERED = `SELECT 1 FROM information_schema.SYSTEM_VARIABLES WHERE VARIABLE_NAME = 'WSREP_ON' AND GLOBAL_VALUE = 'ON'`

/**
 * How transactions begin on MariaDB: in a cluster, once its node has caught up with what was committed on any other by then.
 *
 * @see https://mariadb.com/kb/en/galera-cluster-system-variables/#wsrep_sync_wait
 */
export function beginning({ query }: Connection): () => Promise<readonly string[]> {
  let begin: readonly string[] | undefined
  return async () => {
    if (begin) return begin
    const { rows } = await query(CLUSTERED, [])
    const waiting = (each: string) =>
      each.startsWith('START ') ? `SET STATEMENT wsrep_sync_wait = 1 FOR ${each}` : each
    return (begin = rows.length > 0 ? mariadb.begin.map(waiting) : mariadb.begin)
  }
}
