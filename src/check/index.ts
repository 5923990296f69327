export {
  ComparisonError,
  EveryoneUnknownError,
  ExpectationFileError,
  type ExpectationProblem,
  MissingRecordError,
} from './bench/errors.js'
export * from './expect/index.js'
export { lookAt, type Look } from './look/look.js'
export {
  type DenyReason,
  explain,
  type Explanation,
  type GrantReason,
  type PartReason,
  type Question,
} from './explain/why.js'
export { attributesOf, chooseCallers, openWorkbench, type Subject, type Workbench } from './bench/workbench.js'
export { everyoneIn, type Reach, type ReachOfAll, reachOfAll, whoSees, countForMany } from './look/reach.js'
export {
  seeCounts,
  seenCount,
  seenText,
  type SeenCounts,
  type SeenRow,
  type SeenTable,
  type SeeOptions,
  seeTable,
  type Sight,
} from './look/see.js'
export { type CheckReport, type CheckResult, openExpectations, type ReadFile, runFile } from './expect/check.js'
export { type Change, compareRulebooks, type Comparison, type SomeRecords } from './compare/compare.js'
export { mutate, type Mutation, type Survivor } from './cover/mutate.js'
export { type Mutant, mutantsOf } from './cover/mutants.js'
export { coverage, type Covered } from './cover/coverage.js'
export { TooManyRecordsError } from './bench/data.js'
export { reportOf } from './report/index.js'
export { gatherGrid, type TableGrid } from './look/grid.js'
export { type Attempt, type Tried, tryWrite } from './try/tries.js'
export { type Attempted, type SightChange, tryAs } from './try/attempt.js'
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
} from './expect/assert.js'
export { type Fixture, FixtureError, openFixture, readRecords, type Records } from './bench/fixture.js'
export { takesValues, valuesFrom, writeValue } from './bench/values.js'
export { shortKeys, wholeKey } from './bench/short-keys.js'
