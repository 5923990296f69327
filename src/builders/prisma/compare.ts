import { type Compare, type Comparison, compareValues, type Operand } from '../../condition/index.js'
import type { Field, Place, Said } from './place.js'
import { startsWith } from './starts-with.js'
import { valueIn } from './values.js'

type Ordered = 'below' | 'atMost' | 'above' | 'atLeast'

/** What Prisma calls a comparison, and the same from the other side. */
const ORDERED: Readonly<Record<Ordered, { readonly word: string; readonly mirrored: Ordered }>> = {
  below: { word: 'lt', mirrored: 'above' },
  atMost: { word: 'lte', mirrored: 'atLeast' },
  above: { word: 'gt', mirrored: 'below' },
  atLeast: { word: 'gte', mirrored: 'atMost' },
}

const isOrdered = (how: Comparison): how is Ordered => Object.hasOwn(ORDERED, how)

/** A comparison, where all the fields in it are set. */
export function compareWhere(place: Place, { how, left, right }: Compare): Said {
  if (left.kind === 'value' && right.kind === 'value') return compareValues(how, valueIn(left), valueIn(right))
  if (right.kind === 'value') return withValue(place, place.compared(left), how, valueIn(right))
  if (left.kind !== 'value') return withField(place, left, how, right)
  const field = place.compared(right)
  if (how === 'in') return { [field.name]: { has: field.encode(valueIn(left)) } }
  if (how === 'is') return withValue(place, field, how, valueIn(left))
  return isOrdered(how)
    ? withValue(place, field, ORDERED[how].mirrored, valueIn(left))
    : place.refuse('a value is said to begin as a field does')
}

function withValue(place: Place, field: Field, how: Comparison, value: unknown): Said {
  const { name, encode } = field
  if (isOrdered(how)) return ordered(field, how, value)
  switch (how) {
    case 'is':
      if (value instanceof Date) return { [name]: { gte: value, lt: next(value) } }
      return isKnown(field, value) && { [name]: { equals: encode(value) } }
    case 'in': {
      const items = value as readonly unknown[]
      if (items[0] instanceof Date) return place.refuse('a moment is one of several')
      const known = items.filter((item) => isKnown(field, item))
      return known.length > 0 && { [name]: { in: known.map(encode) } }
    }
    case 'startsWith':
      return startsWith(place, field, value as string)
    case 'overlaps':
      return { [name]: { hasSome: (value as readonly unknown[]).map(encode) } }
    case 'includesAll':
      return { [name]: { hasEvery: (value as readonly unknown[]).map(encode) } }
  }
}

const LARGEST = 2 ** 31 - 1

/** Whether a field can have a value at all: of another, Prisma would complain. */
function isKnown({ data: { choices }, reference: { typeName, isEnum } }: Field, value: unknown): boolean {
  if (typeName === 'Int') return Math.abs(value as number) <= LARGEST
  return !isEnum || choices?.includes(value as string) === true
}

/** Databases keep moments finer than a millisecond, or write them otherwise: each is a span, which ends here. */
const next = (moment: Date): Date => new Date(+moment + 1)

function ordered(field: Field, how: Ordered, value: unknown): Said {
  const { name, encode } = field
  if (value instanceof Date) {
    const bound = {
      below: { lt: value },
      atMost: { lt: next(value) },
      above: { gte: next(value) },
      atLeast: { gte: value },
    }
    return { [name]: bound[how] }
  }
  if (isKnown(field, value)) return { [name]: { [ORDERED[how].word]: encode(value) } }
  // Beyond what Prisma's Int holds, no value is: all that are there are on one side of it.
  const areBelow = (value as number) > 0
  return (how === 'below' || how === 'atMost') === areBelow && { [name]: { lte: LARGEST } }
}

/** Prisma compares fields of one record, where they are of one kind. */
function withField(place: Place, left: Operand, how: Comparison, right: Operand): Said {
  const [one, other] = [place.compared(left), place.compared(right)]
  const isAlike = one.reference.typeName === other.reference.typeName && one.data.type !== 'list'
  if (!isAlike || one.reference.typeName === 'DateTime' || !(how === 'is' || isOrdered(how)))
    return place.refuse(`${one.name} and ${other.name} are compared in a way that Prisma has not`)
  return { [one.name]: { [how === 'is' ? 'equals' : ORDERED[how].word]: other.reference } }
}
