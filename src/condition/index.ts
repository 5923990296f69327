export { RuleError } from './errors.js'
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
  all,
  type CallerCondition,
  isAboutCaller,
  always,
  any,
  type Compare,
  type Comparison,
  type Condition,
  contains,
  never,
  not,
  type Operand,
  operandsOf,
  partsOf,
  type Some,
  unchanged,
} from './tree.js'
