export { isThenable, withAnswer } from './answer.js'
export type { BulkOptions, BulkOutcome } from './in-turn.js'
export type { Decision } from './decision.js'
export {
  type BulkRefusal,
  BulkRefusedError,
  BusyError,
  ChangedError,
  ConflictError,
  MisfitError,
  StoreError,
  TransactionError,
  UnreadError,
} from './errors.js'
export { createGuard, type Guard, type GuardOptions, type ScopedStore } from './guard.js'
export type { Listed, ListOptions, OrderBy, ReadOptions, RelatedOptions, WhereOptions } from './options.js'
export type { WriteOptions } from './provided.js'
export type { UntypedStore } from './scoped.js'
export type { Decided } from './decided.js'
export type { FilterOptions } from './own-queries.js'
export {
  afterSlot,
  type Answers,
  type Backend,
  type Bindings,
  type ChangeRequest,
  type Changes,
  type CountRequest,
  type CreateRequest,
  type Form,
  FORMS,
  type GetRequest,
  type Given,
  keySlot,
  LIMIT,
  type Listing,
  type ListPlan,
  type ListRequest,
  OFFSET,
  type Order,
  type Piece,
  type PieceRequest,
  type Place,
  type Plan,
  type ReadRecord,
  type RecordRequest,
  type RelatedRequest,
  type RemoveRequest,
  type SqlPiece,
  type Store,
  valueSlot,
  type Misfits,
  type WritePlan,
  type Written,
} from './backend.js'
export type { StandardValidator, Validators } from './validators.js'
export type { StoredVerdict } from './verdicts.js'
