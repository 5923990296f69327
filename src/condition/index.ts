export { RuleError } from './errors.js'
export { implies } from './implies.js'
export { all, any, assertCondition, made, not } from './logic.js'
export { normalise } from './normalise.js'
export { print, printOperand } from './print.js'
export { mapOperands, shift } from './shift.js'
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
  isAboutCaller,
  always,
  anyOf,
  type Compare,
  type Comparison,
  type Condition,
  contains,
  never,
  notOf,
  type Operand,
  operandsOf,
  partsOf,
  type Some,
  unchanged,
} from './tree.js'
