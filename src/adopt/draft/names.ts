import { isName } from '../../model/index.js'

/** A name of the database as code has it: `MEMBER_ID`, `MemberID` and `member id` as `memberId`. */
export function codeName(stored: string, otherwise: string): string {
  const words = stored
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .replace(/([a-z0-9])([A-Z])/g, '$1 $2')
    .replace(/([A-Z])([A-Z][a-z])/g, '$1 $2')
    .split(/[^A-Za-z0-9]+/)
    .filter((word) => word !== '')
    .map((word) => word.toLowerCase())
  const [first = '', ...rest] = words
  const name = first + rest.map((word) => word.slice(0, 1).toUpperCase() + word.slice(1)).join('')
  const fitting = (/^[a-z]/.test(name) ? name : otherwise + name).slice(0, 60)
  return isName(fitting) && !['may', 'chain'].includes(fitting)
    ? fitting
    : `${otherwise}${fitting.slice(0, 1).toUpperCase()}${fitting.slice(1)}`
}

/** A name that is not taken yet, with a number behind it where it is. */
export function free(name: string, taken: ReadonlySet<string>): string {
  let [found, at] = [name, 1]
  while (taken.has(found)) found = `${name}${(at += 1)}`
  return found
}

/** Forms of a word that may name the same thing, one and many of it. */
export function forms(word: string): readonly string[] {
  const lower = word.toLowerCase()
  const known = IRREGULAR.flatMap(([one, many]) => (lower === one || lower === many ? [one, many] : []))
  return [
    lower,
    `${lower}s`,
    `${lower}es`,
    lower.replace(/y$/, 'ies'),
    lower.replace(/ies$/, 'y'),
    lower.replace(/es$/, ''),
    lower.replace(/s$/, ''),
    ...known,
  ]
}

const IRREGULAR = [
  ['person', 'people'],
  ['child', 'children'],
  ['staff', 'staff'],
] as const

/** Whether two words can name the same thing. */
export const alike = (left: string, right: string): boolean => {
  const others = new Set(forms(right))
  return forms(left).some((form) => others.has(form))
}
