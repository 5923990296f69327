import type { Backend, Given, Piece, PieceRequest } from '../../guard/index.js'
import type { Rulebook } from '../../rules/index.js'
import { scopeAt } from '../condition.js'
import { planAnswers, planAnswersFor } from '../inquiry.js'
import { planFilter, planGet, planView } from '../read.js'
import { changedScope, createdScope, planLock, planParentLock } from '../write.js'
import { Columns } from './columns.js'
import { counting, finding, listing } from './listing.js'
import { misfitsIn } from './misfits.js'
import { outermost, type SqlPlace } from './place.js'
import { bytesOf, compilationOf, planOf, tell, type Workshop } from './planned.js'
import { Reaches } from './reaches.js'
import type { Statement } from '../statement.js'
import type { Database, Outcome, SqlStore } from './sql-store.js'
import { changing, creating, removing } from './writing.js'

/**
 * Makes a store of a database that speaks SQL, such as one that a driver of your own leads to.
 *
 * @param database how to run statements, alone and in transactions, and its dialect
 * @example sqlStore({ dialect: sqlite, query: (text, values) => …, transaction: (work) => … })
 */
export function sqlStore(database: Database): SqlStore {
  const { dialect, listen, close } = database
  return {
    dialect,
    query: (text, values, signal) => database.query(text, values, signal),
    transaction: (work) => database.transaction(work),
    ...(listen && { listen: (channel, hear) => listen.call(database, channel, hear) }),
    ...(close && { close: () => close.call(database) }),
    // Of a copy with something else in its place, that copy is the store.
    backend(this: SqlStore, rulebook) {
      return sqlBackend(this, rulebook)
    },
  }
}

/** How a database finds and writes records under the conditions of a rulebook. */
function sqlBackend(store: SqlStore, rulebook: Rulebook): Backend {
  const { dialect } = store
  const columns = Columns.of(store, rulebook.model)
  const workshop: Workshop = { rulebook, dialect, columns, reaches: new Reaches() }
  const planFrom = <T>(statement: Statement, read: (outcome: Outcome) => T) => planOf(dialect, statement, read)
  return {
    place: outermost(store),
    locks: dialect.locks !== undefined,
    failsWhole: dialect.failsWhole,
    get isReady() {
      return columns.areKnown
    },
    getReady: (at: SqlPlace) => columns.read((statement) => tell(dialect, at, statement)),
    list: (request) => listing(workshop, request),
    get: (request) => {
      const { statement, read } = planGet(compilationOf(workshop), request)
      return planFrom(statement, ({ rows }) => rows.map((row) => read(row as Record<string, unknown>)))
    },
    count: (request) => counting(workshop, request),
    exists: (request) => finding(workshop, request),
    create: (request) => creating(workshop, request),
    change: (request) => changing(workshop, request),
    remove: (request) => removing(workshop, request),
    lock: (request) => planFrom(planLock(compilationOf(workshop), request), ({ rows }) => rows.length > 0),
    refer: (table, relation) => planFrom(planParentLock(compilationOf(workshop), table, relation), () => undefined),
    ask: (table, questions, changes) => {
      const compilation = compilationOf(workshop)
      const next = changedScope(compilation, changes, scopeAt(compilation, table))
      const { statement, answersOf, recordOf } = planAnswers({ ...compilation, next }, table, questions)
      return planFrom(statement, ({ rows: [row] }) => row && { facts: answersOf(row), record: () => recordOf(row) })
    },
    askNew: (table, questions) => {
      const compilation = compilationOf(workshop)
      const { statement, answersOf } = planAnswersFor(compilation, createdScope(compilation, table), questions)
      return planFrom(statement, ({ rows: [row] }) => answersOf(row as Given))
    },
    misfits: misfitsIn(workshop),
    piece: (request) => pieceOf(workshop, request),
  }
}

function pieceOf(workshop: Workshop, request: PieceRequest): Piece {
  const plan = request.kind === 'filter' ? planFilter : planView
  const statement = plan({ ...compilationOf(workshop), form: request.form, isPiece: true }, request)
  const { text, bind } = statement
  return { bytes: bytesOf(statement), for: (bindings) => ({ text, values: bind(bindings) }) }
}
