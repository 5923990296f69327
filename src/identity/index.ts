export {
  CredentialsError,
  ForgeryError,
  IdentityConfigError,
  IdentityUnavailableError,
  LookingError,
} from './errors.js'
export { assertFromHere } from './forgery.js'
export { createIdentity, type Identity, type IdentityOptions } from './identity.js'
export { lookAs, type LookAsOptions } from './look-as.js'
export { type MemberOptions, memberRecord } from './member.js'
export { remote, type RemoteOptions } from './remote.js'
export { type GroupOptions, groupRoles } from './roles.js'
export { session, type SessionOptions } from './session.js'
export {
  type Asking,
  type Claims,
  type Finding,
  type IdentityEvent,
  notMine,
  refused,
  type Source,
  thisCaller,
  type ToCaller,
} from './source.js'
