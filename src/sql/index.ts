export { bind, type Bindings } from './bind.js'
export { type Compilation, compileAnswer, compileCondition, type Scope, scopeAt } from './condition.js'
export type { Dialect } from './dialect.js'
export { type Fragment, type Slot, type Statement } from './fragment.js'
export { postgresql } from './postgresql.js'
export {
  type DriverRow,
  planAnswers,
  planAnswersFor,
  planCount,
  planRead,
  type ReadPlan,
  type ReadRequest,
} from './read.js'
export { createTables, insertRecord } from './schema.js'
export { createdScope, givenScope, planCreate, planDelete, planUpdate } from './write.js'
