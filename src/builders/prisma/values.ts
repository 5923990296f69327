import { fromPlain, type FieldType, type PlainValue, type Shape } from '../../model/index.js'
import type { FieldReference } from './naming.js'

/** Which database Prisma speaks to. */
export type Provider = 'postgresql' | 'sqlite'

type Encode = (value: unknown) => unknown
type Encoders = Partial<Readonly<Record<FieldType, Readonly<Record<string, Encode>>>>>

const asItIs: Encode = (value) => value

const ANYWHERE: Encoders = {
  text: { String: asItIs },
  uuid: { String: asItIs },
  choice: { String: asItIs, enum: asItIs },
  integer: { Int: asItIs, BigInt: (value) => BigInt(value as number) },
  bigInteger: { BigInt: asItIs },
  float: { Float: asItIs },
  boolean: { Boolean: asItIs },
  timestamp: { DateTime: asItIs },
}

/** How values are given to Prisma, by our type and by Prisma's. What is not here is kept otherwise than Prisma compares it. */
const ENCODERS: Readonly<Record<Provider, Encoders>> = {
  postgresql: {
    ...ANYWHERE,
    decimal: { Decimal: asItIs },
    date: { DateTime: (value) => new Date(`${value as string}T00:00:00Z`) },
  },
  sqlite: { ...ANYWHERE, date: { String: asItIs } },
}

/** How a field's values are given to Prisma; nothing where they cannot be compared there exactly. */
export function encoderOf(
  provider: Provider,
  type: FieldType,
  { typeName, isEnum }: FieldReference,
): Encode | undefined {
  const kinds = ENCODERS[provider][type]
  const kind = isEnum ? 'enum' : typeName
  return kinds && Object.hasOwn(kinds, kind) ? kinds[kind] : undefined
}

/** A value that stands in a rule. */
export const valueIn = ({ shape, value }: { readonly shape: Shape; readonly value: PlainValue }): unknown =>
  fromPlain(shape, value)
