export {
  anonymous,
  type Anonymous,
  type AttributesOf,
  type Caller,
  type CallerDefinition,
  CallerError,
  type CallerOf,
  type CallerShape,
  checkCaller,
  defineCaller,
  type RoleOf,
} from './caller.js'
export { checkRulebook } from './check.js'
export {
  asksCaller,
  createPermission,
  expand,
  fieldSight,
  holds,
  permission,
  specialise,
  updatePermission,
  whoCondition,
} from './permission.js'
export {
  type Action,
  ACTIONS,
  covers,
  deniesFor,
  type Deny,
  type Grant,
  grantsFor,
  type NamedDeny,
  type PlacedGrant,
  type Rulebook,
  rulesOf,
  type Stamps,
  type TableRules,
  type Who,
} from './rulebook.js'
export { defineRules, type RuleContext, type RuleFunctions, type Rules } from './rules.js'
export type { CallerCondition, DenySpec, GrantSpec, GrantSpecs, TableBuilder, To } from './table.js'
