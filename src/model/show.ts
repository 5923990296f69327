/** For `JSON.stringify`: JSON has no whole numbers of 64 bits, so they become text. */
export const bigIntAsText = (_: string, value: unknown): unknown => (typeof value === 'bigint' ? String(value) : value)

/** How many characters of a value stand in a message. */
const SHOWN = 80

/** A value as it stands in a message: whatever it is, short, and on one line. */
export function show(value: unknown): string {
  const text = written(value)
  return text.length > SHOWN ? `${text.slice(0, SHOWN - 1)}…` : text
}

function written(value: unknown): string {
  if (typeof value === 'bigint') return `${value}n`
  try {
    return JSON.stringify(value, bigIntAsText) ?? typeof value
  } catch {
    return typeof value
  }
}
