export type { DriverRow } from './answers.js'
export { type AnswerPlan, planAnswers, planAnswersFor } from './inquiry.js'
export { columnName, type Compilation, compileAnswer, compileCondition, type Scope, scopeAt } from './condition.js'
export {
  type DatabaseProblem,
  type Dialect,
  type DriverError,
  type Form,
  FORMS,
  type Trait,
  type Traits,
} from './dialect.js'
export { type Branches, branchesOf, chooseForm, type Indexes, isByKey, isIndexed, type Outlook } from './forms.js'
export { type Everyone, type EveryonePlan, planCallers, planEveryone } from './everyone.js'
export { type Fragment, type Slot } from './fragment.js'
export { mariadb } from './mariadb/index.js'
export { afterSlot, type Order } from './order.js'
export { postgresql } from './postgresql/index.js'
export { planReach, planRows, type ReachPlan } from './reach.js'
export {
  filterStatement,
  planCount,
  planExists,
  planRead,
  planView,
  type ReadPlan,
  type ReadRequest,
  sourceStatement,
} from './read.js'
export { keySlot, type RecordRequest, type RelatedRequest } from './record.js'
export { createTables, insertRecord, resumeNumbers } from './schema.js'
export { sqlite } from './sqlite/index.js'
export { readerFor, writerFor } from './stored.js'
export { type Bindings, type Mark, render, type Statement } from './statement.js'
export {
  changedScope,
  type Changes,
  createdScope,
  planChange,
  planCreate,
  planDelete,
  planLock,
  planParentLock,
  type WritePlan,
} from './write.js'
