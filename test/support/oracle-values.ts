// How the oracle compares values: see oracle.ts.

/** Whether a value is missing. */
export const gone = (value: unknown): boolean => value === null || value === undefined

/** Whether two values are equal. */
export function same(left: unknown, right: unknown): boolean {
  if (left instanceof Date && right instanceof Date) return left.getTime() === right.getTime()
  if (left instanceof Uint8Array && right instanceof Uint8Array) return Buffer.compare(left, right) === 0
  if (Array.isArray(left) && Array.isArray(right))
    return left.length === right.length && left.every((item, at) => same(item, right[at]))
  return left === right
}

/** A value as something that `<` orders: texts by their bytes, decimals as numbers. */
export const order = (value: unknown): number | bigint | string => {
  if (value instanceof Date) return value.getTime()
  if (typeof value !== 'string')
    return Number.isInteger(value) || typeof value === 'bigint' ? (value as number | bigint) : Number(value)
  return /^-?\d+[.]\d\d$/.test(value) ? BigInt(value.replace('.', '')) : Buffer.from(value).toString('hex')
}

/** Whether a comparison of two values holds. */
export function compare(how: string, left: unknown, right: unknown): boolean {
  if (gone(left) || gone(right)) return false
  const list = right as readonly unknown[]
  if (how === 'is') return same(left, right)
  if (how === 'below') return order(left) < order(right)
  if (how === 'atMost') return order(left) <= order(right)
  if (how === 'above') return order(left) > order(right)
  if (how === 'atLeast') return order(left) >= order(right)
  if (how === 'startsWith') return (left as string).slice(0, (right as string).length) === right
  if (how === 'in') return list.some((item) => same(item, left))
  if (how === 'overlaps') return list.some((item) => (left as readonly unknown[]).some((own) => same(own, item)))
  if (how === 'includesAll') return list.every((item) => (left as readonly unknown[]).some((own) => same(own, item)))
  throw new Error(`The oracle knows no comparison ${how}.`)
}
