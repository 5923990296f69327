export {
  type AcceptedChange,
  type Aspect,
  aspectName,
  type Expectation,
  type Expectations,
  expectationText,
  type KeysExpected,
  listKeys,
  type Place,
  type SetExpectation,
  type TryExpectation,
} from './expectation.js'
export { readExpectations } from './read.js'
export { recordExpectations } from './record.js'
export { type Failure, type Outcome, runExpectations, type RunOptions, unknownKeys } from './run.js'
