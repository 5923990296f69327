export { type Access, accessQuestions, accessReader, allowance, fieldMasks } from './access.js'
export { type Data, type Lookup, lookupIn, type MemoryRecord } from './data.js'
export { answer, decide, decider, type DecideRequest, isClosed, predicate } from './decide.js'
export { evaluator, evaluatorInside } from './evaluate.js'
export { evaluatorAsCode } from './generate.js'
export {
  checkId,
  denyId,
  type Facts,
  type Inquiry,
  type Question,
  questionsFor,
  SIGHT,
  unchangedId,
  whenId,
  whoId,
} from './questions.js'
export { ForbiddenError, NotFoundError, refusal, RefusedError, SignInError, type Told, verdictOf } from './refuse.js'
export {
  problemsOfNew,
  isNeeded,
  type Reading,
  readValues,
  recordToCreate,
  stampsToSet,
  stampValues,
  valueWithoutRecord,
} from './values.js'
export {
  closedVerdict,
  type DenyVerdict,
  type FailedCheck,
  forbiddenText,
  type GrantVerdict,
  type PartVerdict,
  type Verdict,
  verdictFrom,
  whoName,
} from './verdict.js'
export type { World } from './world.js'
