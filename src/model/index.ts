export { ModelError, PachterError, UnknownNameError } from './errors.js'
export {
  bigInteger,
  boolean,
  choice,
  type Decimal,
  decimal,
  type Field,
  type FieldData,
  type FieldType,
  integer,
  list,
  references,
  text,
  timestamp,
} from './field.js'
export type {
  FieldName,
  IsUnion,
  KeyFields,
  KeyOf,
  ParentName,
  RecordOf,
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
export { type KeyValues, parseKey, printKey, readKey } from './key.js'
export {
  checkModel,
  deepFreeze,
  defineModel,
  fieldOf,
  type Model,
  type ModelData,
  type TableData,
  tableOf,
  type Tables,
} from './model.js'
export { childOf, childrenOf, parentsOf, type Relation } from './relations.js'
export {
  accepts,
  bigIntAsText,
  decimalFrom,
  describeType,
  fromPlain,
  isMissing,
  type PlainValue,
  rankOf,
  sameValue,
  type Shape,
  toPlain,
  unitsOf,
  type Value,
} from './values.js'
