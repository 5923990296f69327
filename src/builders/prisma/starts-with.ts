import type { Field, Place, Where } from './place.js'

/** Texts that begin so. */
export function startsWith(place: Place, { name, reference }: Field, prefix: string): Where {
  if (reference.typeName !== 'String') return place.refuse(`${name} begins so, and is no text of Prisma's`)
  // Prisma hands a pattern to the database as it is.
  if (place.database.provider === 'postgresql') return { [name]: { startsWith: prefix.replace(/[\\%_]/g, '\\$&') } }
  // SQLite's patterns take no notice of case; its order is that of code points.
  const next = after(prefix)
  return { [name]: { gte: prefix, ...(next !== undefined && { lt: next }) } }
}

/** The first text behind all that begin so; none where there is no such text. */
function after(prefix: string): string | undefined {
  const points = Array.from(prefix, (each) => each.codePointAt(0) as number)
  while (points.at(-1) === 0x10ffff) points.pop()
  const last = points.pop()
  if (last === undefined) return undefined
  // Between these there are halves of characters only.
  return String.fromCodePoint(...points, last === 0xd7ff ? 0xe000 : last + 1)
}
