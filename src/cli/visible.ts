/** What a terminal takes for a command, or shows in another order than it stands in; but for a line feed. */
// eslint-disable-next-line no-control-regex
const COMMANDS = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g

/** A text as a terminal can show it: what others wrote into records gives it no commands. */
export const visible = (text: string): string =>
  text.replaceAll(COMMANDS, (each) => `\\u${each.charCodeAt(0).toString(16).padStart(4, '0')}`)

/** Data with every text in it made visible. */
export function visibly<T>(data: T): T {
  if (typeof data === 'string') return visible(data) as T
  if (Array.isArray(data)) return data.map(visibly) as T
  if (typeof data !== 'object' || data === null || Object.getPrototypeOf(data) !== Object.prototype) return data
  return Object.fromEntries(Object.entries(data).map(([name, value]) => [visible(name), visibly(value)])) as T
}
