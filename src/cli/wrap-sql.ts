/** Quoted names and texts, brackets, words and what stands between them. */
const TOKEN = /"(?:[^"]|"")*"|'(?:[^']|'')*'|`(?:[^`]|``)*`|[()]|[^\s()"'`]+|\s+/g

/** Before these words, a line may end. */
const BREAKS = new Set(['AND', 'OR', 'FROM', 'WHERE', 'JOIN', 'UNION', 'ORDER', 'LIMIT', 'ON'])

/** A bracket with what is in it, or a word. */
type Part = string | readonly Part[]

/**
 * Breaks SQL that people read into lines: where it does not fit, at the words that its parts begin with, brackets indented.
 *
 * @param width how wide a line may be, where that can be had
 */
export function wrapSql(text: string, width: number, indent = 0): string {
  return layOut(read(text.match(TOKEN) ?? []), width, indent)
}

function read(tokens: readonly string[]): readonly Part[] {
  const stack: Part[][] = [[]]
  for (const token of tokens) {
    if (token === '(') stack.push([])
    else if (token === ')' && stack.length > 1) {
      const inner = stack.pop() as Part[]
      stack.at(-1)?.push(inner)
    } else stack.at(-1)?.push(token)
  }
  return stack.flat()
}

const flat = (parts: readonly Part[]): string =>
  parts.map((part) => (typeof part === 'string' ? part : `(${flat(part)})`)).join('')

function layOut(parts: readonly Part[], width: number, indent: number): string {
  const whole = flat(parts).trim()
  const margin = ' '.repeat(indent)
  if (indent + whole.length <= width) return margin + whole
  const lines: Part[][] = [[]]
  for (const part of parts) {
    if (typeof part === 'string' && BREAKS.has(part) && lines.at(-1)?.length) lines.push([])
    lines.at(-1)?.push(part)
  }
  return lines
    .filter((line) => flat(line).trim() !== '')
    .map((line) => layLine(line, width, indent))
    .join('\n')
}

/** A line that still does not fit has its last long bracket opened. */
function layLine(line: readonly Part[], width: number, indent: number): string {
  const whole = flat(line).trim()
  const margin = ' '.repeat(indent)
  if (indent + whole.length <= width) return margin + whole
  const at = line.findLastIndex((part) => typeof part !== 'string' && flat(part).length > 20)
  const bracket = line[at]
  if (bracket === undefined || typeof bracket === 'string') return margin + whole
  const before = `${margin}${flat(line.slice(0, at)).trim()}`
  const after = flat(line.slice(at + 1)).trim()
  const opened = before.trim() === '' ? `${margin}(` : `${before} (`
  return `${opened}\n${layOut(bracket, width, indent + 2)}\n${margin})${after === '' ? '' : ` ${after}`}`
}
