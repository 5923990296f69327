import { StoreError } from '../guard/index.js'
import { noteAside } from '../model/index.js'
import { type Connection, type DriverRow, mariadb } from '../sql/index.js'

/** What a session is set to, and whether its server is a node of a Galera cluster, which lag behind one another. */
const SETTINGS = `SELECT @@autocommit AS "commits", @@sql_select_limit < 18446744073709551615 AS "limited", @@sql_mode AS "modes",
@@character_set_client AS "sent", @@character_set_results AS "read", (SELECT SESSION_VALUE FROM information_schema.SYSTEM_VARIABLES
WHERE VARIABLE_NAME IN ('TX_ISOLATION', 'TRANSACTION_ISOLATION') LIMIT 1) AS "level", (SELECT count(*)
FROM information_schema.SYSTEM_VARIABLES WHERE VARIABLE_NAME = 'WSREP_ON' AND GLOBAL_VALUE = 'ON') AS "nodes"`

/** What a session cannot be set to, since what is asked would be answered otherwise, and nobody told. */
const UNFIT: readonly (readonly [is: (settings: DriverRow) => boolean, hint: string])[] = [
  [({ commits }) => Number(commits) !== 1, 'autocommit is off, so that what is written alone is never committed'],
  [
    ({ level }) => level === 'READ-UNCOMMITTED',
    'its isolation level is READ UNCOMMITTED, so that a share counts that is never committed',
  ],
  [({ limited }) => Number(limited) === 1, 'sql_select_limit is set, so that lists end without a word'],
  [
    ({ modes }) => /EMPTY_STRING_IS_NULL/.test(String(modes)),
    'sql_mode has EMPTY_STRING_IS_NULL, so that no text is empty',
  ],
  [
    ({ sent, read }) => sent !== 'utf8mb4' || read !== 'utf8mb4',
    'it does not speak utf8mb4, so that some texts come as others',
  ],
]

/** Finds out, once, how the sessions of a pool are set, and how transactions begin in them. */
export class Sessions {
  #begin: readonly string[] | undefined
  #asking: Promise<readonly string[]> | undefined

  constructor(private readonly connection: Connection) {}

  get areKnown(): boolean {
    return this.#begin !== undefined
  }

  /**
   * How transactions begin: in a cluster, once its node has caught up with what was committed on any other by then.
   *
   * @throws {StoreError} where sessions are set to what cannot be
   * @see https://mariadb.com/kb/en/galera-cluster-system-variables/#wsrep_sync_wait
   */
  async begin(): Promise<readonly string[]> {
    if (this.#begin) return this.#begin
    // Those who come meanwhile wait for the same answer; where it was none, the next asks again.
    this.#asking ??= this.#ask().finally(() => (this.#asking = undefined))
    return (this.#begin = await this.#asking)
  }

  async #ask(): Promise<readonly string[]> {
    const [settings = {}] = (await this.connection.query(SETTINGS, [])).rows
    const unfit = UNFIT.find(([is]) => is(settings))
    if (unfit) {
      throw noteAside(new StoreError('The database did not do this.'), {
        hint: `A session of the pool is not set as it has to be: ${unfit[1]}. Set it back where connections are opened.`,
      })
    }
    const waiting = (each: string) =>
      each.startsWith('START ') ? `SET STATEMENT wsrep_sync_wait = 1 FOR ${each}` : each
    return Number(settings['nodes']) > 0 ? mariadb.begin.map(waiting) : mariadb.begin
  }
}
