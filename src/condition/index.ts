export { COMPARISONS, compareValues, type Comparison, isComparable } from './comparison.js'
export { RuleError } from './errors.js'
export {
  asksCaller,
  type ConditionOf,
  contains,
  sizeOf,
  GRAMMAR,
  isAboutCaller,
  type Kind,
  operandsOf,
  partsOf,
  refersOutside,
  rewrite,
  shift,
} from './grammar.js'
export { implies } from './implies.js'
export { all, any, assertCondition, made, not, withoutLoose } from './logic.js'
export { normalise, sameData } from './normalise.js'
export { print, printOperand } from './print.js'
export { type Many, type Row, rowOf } from './row.js'
export {
  type AnyTerm,
  isTerm,
  type ListTerm,
  type Moment,
  moment,
  type Span,
  operandFrom,
  type OrderedTerm,
  term,
  type Term,
  type TermFor,
  type TextTerm,
} from './term.js'
export {
  after,
  allOf,
  type CallerCondition,
  always,
  anyOf,
  type Compare,
  type Condition,
  never,
  notOf,
  type Operand,
  type Some,
  unchanged,
} from './tree.js'
