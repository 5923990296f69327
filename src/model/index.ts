export { type Aside, asideOf, inFull, noteAside } from './aside.js'
export { brandOf, isBranded } from './brand.js'
export { assertKnown, assertWithin, LimitError, ModelError, PachterError, UnknownNameError } from './errors.js'
export { Cache } from './cache.js'
export {
  bigInteger,
  boolean,
  bytes,
  choice,
  date,
  type DateText,
  type TimeText,
  type Decimal,
  decimal,
  type Field,
  type FieldData,
  float,
  integer,
  json,
  list,
  references,
  text,
  time,
  timestamp,
  uuid,
} from './field.js'
export type {
  FieldName,
  IsUnion,
  KeyFields,
  KeyOf,
  ParentName,
  RecordOf,
  Referring,
  ReferringFields,
  RelationsOf,
  TableName,
  TablesOf,
  TargetOf,
  ValueOf,
  ValuesOf,
  VisibleRecord,
} from './infer.js'
export { InputError } from './input-error.js'
export { type KeyValues, parseKey, keyPath, printKey, readKey } from './key.js'
export { LIMITS } from './limits.js'
export { bigIntAsText, show } from './show.js'
export { checkModel, deepFreeze, defineModel, isName, type Model, type Storage, type Tables } from './model.js'
export { fieldOf, keyFieldsOf, type ModelData, type StoredTable, type TableData, tableOf } from './tables.js'
export { childOf, childrenOf, parentName, parentsOf, type Relation } from './relations.js'
export { conventional, isStorable, type Naming, schemasOf, storedField, storedTable } from './stored.js'
export {
  bytesFrom,
  FIELD_TYPES,
  type FieldType,
  ITEM_TYPES,
  type Json,
  type JsonObject,
  type PlainValue,
  type Shape,
  type Value,
} from './types.js'
export { canBeUnique, ownUniques, uniqueMarks, uniquesOf } from './uniques.js'
export {
  accepts,
  comparesAs,
  decimalFrom,
  describeType,
  fromJson,
  fromPlain,
  freshValue,
  isListable,
  isMissing,
  isOrdered,
  misshapen,
  isNever,
  isNumberAsText,
  numbersUpTo,
  ownValue,
  rankOf,
  readTyped,
  sameValue,
  toJson,
  toPlain,
  unitsOf,
} from './values.js'
