export { bind, type Bindings } from './bind.js'
export { type Compilation, compileAnswer, compileCondition, type Scope, scopeAt } from './condition.js'
export type { Dialect } from './dialect.js'
export { type Fragment, render, type Slot, type Statement } from './fragment.js'
export { mariadb } from './mariadb.js'
export { postgresql } from './postgresql.js'
export {
  type AnswerPlan,
  type DriverRow,
  filterStatement,
  planAnswers,
  planAnswersFor,
  planCount,
  planRead,
  type ReadPlan,
  type ReadRequest,
} from './read.js'
export { createTables, insertRecord } from './schema.js'
export { sqlite } from './sqlite.js'
export { changedScope, type Changes, createdScope, planChange, planCreate, planDelete } from './write.js'
