import { PachterError } from '../model/index.js'

/** A rule is wrong in itself or does not fit the model: thrown while rules are built or loaded, never later. */
export class RuleError extends PachterError {
  readonly code = 'rules-invalid'
}
