export { kept } from './kept.js'
export {
  type StandingOf,
  anonymous,
  type Anonymous,
  type AttributesOf,
  type Caller,
  type CallerDefinition,
  CallerError,
  type CallerOf,
  type CallerShape,
  checkCaller,
  type ChannelOf,
  defineCaller,
  rolesThatServe,
  PLAIN_SHAPE,
  shapeOfCaller,
  type RoleOf,
  trusted,
  type Trusted,
} from './caller.js'
export { checkRulebook } from './check.js'
export { isChecked, noteChecked } from './checked.js'
export { assertSize, checkAsked } from './check-condition.js'
export {
  changePermission,
  changesSome,
  createPermission,
  dependsOn,
  fair,
  possibility,
  withComputed,
} from './change.js'
export { type Discretion, discretions, supposing } from './discretion.js'
export { compilePattern, type Matcher } from './pattern.js'
export {
  expand,
  fieldSight,
  isFixed,
  isNeverGiven,
  decidedFor,
  leftAsIs,
  permission,
  recordChecks,
  specialise,
  withoutChange,
  whoCondition,
} from './permission.js'
export {
  type Action,
  ACTIONS,
  assertAction,
  changesRecord,
  covers,
  deniesFor,
  type Deny,
  type FieldCheck,
  type Grant,
  grantsFor,
  isRead,
  type NamedDeny,
  type PlacedGrant,
  type RecordCheck,
  type Rulebook,
  type RulesInForce,
  rulesOf,
  type Stamps,
  stampsFor,
  type StandardAction,
  type TableRules,
  type Who,
} from './rulebook.js'
export {
  type AnyActions,
  defineRules,
  type OwnAction,
  type RuleContext,
  type RuleFunctions,
  type Rules,
} from './rules.js'
export type { AsForSpec, DenySpec, GrantSpec, GrantSpecs, TableBuilder, To } from './table.js'
export { asSeen, asTold } from './seen.js'
export { readRulebook, RulebookError } from './read.js'
export { rulebookSchema } from './schema.js'
export { possibleFields } from './possible.js'
export { inForce } from './in-force.js'
