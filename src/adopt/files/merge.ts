import { diff3Merge } from 'node-diff3'

/** A file with what is new in it. */
export interface Merged {
  readonly text: string
  /** What would have been written where a person has written something else: left as it is, and told. */
  readonly left: readonly string[]
}

/** What a line is about, so that lines side by side are told apart. */
const ABOUT = '\0'

/** Lines, each after what it is about: what changes in one is then no change of the next. */
const marked = (text: string): string[] =>
  text.split('\n').flatMap((line) => [ABOUT + (/^\s*[\w'"]+/.exec(line)?.[0].trim() ?? ''), line])

const unmarked = (lines: readonly string[]): readonly string[] => lines.filter((line) => !line.startsWith(ABOUT))

/**
 * Brings what is new into a file that a person may have changed: what was written before and is there still, is replaced; what
 * the person wrote, stays.
 *
 * @param before as it was written last
 * @param now as it is
 * @param next as it would be written today
 */
export function merge(before: string, now: string, next: string): Merged {
  const lines: string[] = []
  const left: string[] = []
  for (const { ok, conflict } of diff3Merge(marked(now), marked(before), marked(next), {
    excludeFalseConflicts: true,
  })) {
    if (ok) lines.push(...ok)
    else if (conflict) {
      lines.push(...conflict.a)
      left.push(...unmarked(conflict.b).filter((line) => line.trim() !== '' && !unmarked(conflict.a).includes(line)))
    }
  }
  return { text: unmarked(lines).join('\n'), left }
}
