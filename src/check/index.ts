export { ComparisonError, ExpectationFileError, type ExpectationProblem, MissingRecordError } from './errors.js'
export * from './expectations/index.js'
export { lookAt, type Look } from './look.js'
export { type DenyReason, explain, type Explanation, type GrantReason, type PartReason, type Question } from './why.js'
export { writeValue } from './trace.js'
export { attributesOf, chooseCallers, openWorkbench, type Subject, type Workbench } from './workbench.js'
export { everyoneIn, type Reach, type ReachOfAll, reachOfAll, whoSees, countForMany } from './reach.js'
export {
  seeCounts,
  type SeenCounts,
  type SeenRow,
  type SeenTable,
  type SeeOptions,
  seeTable,
  type Sight,
} from './see.js'
export { type CheckReport, type CheckResult, openExpectations, type ReadFile, runFile } from './check.js'
export { type Change, compareRulebooks, type Comparison, type SomeRecords } from './compare.js'
export { mutate, type Mutation, type Survivor } from './mutate.js'
export { type Mutant, mutantsOf } from './mutants.js'
export { coverage, type Covered } from './coverage.js'
export { TooManyRecordsError } from './data.js'
export { reportOf } from './report/index.js'
export { gatherGrid, type TableGrid } from './grid.js'
export { type Attempted, type SightChange, tryAs } from './attempt.js'
export {
  type AnyStore,
  assertAllowed,
  assertHidden,
  assertRefused,
  assertSees,
  assertSeesNone,
  ExpectationFailedError,
  type KeyGiven,
  type RefusalExpected,
} from './assert.js'
export { type Fixture, FixtureError, openFixture, readRecords, type Records } from './fixture.js'
export { takesValues, valuesFrom } from './values.js'
