import { anonymous, type CallerOf } from 'pachter'
import type { caller } from './rules.js'

/** The people the demo looks at the association through. */
export const callers = {
  nobody: anonymous,
  ana: { id: 1 },
  ben: { id: 2 },
  carla: { id: 3 },
  dirk: { id: 4, roles: ['treasurer'] },
  eva: { id: 5, roles: ['secretary'] },
  noor: { id: 25 },
} satisfies Readonly<Record<string, CallerOf<typeof caller>>>

/** What to know of each of them. */
export const about: Readonly<Record<keyof typeof callers, string>> = {
  nobody: 'has not signed in',
  ana: 'holds two plots',
  ben: 'helps out, and has been shared with',
  carla: 'warden of Molenzicht',
  dirk: 'treasurer',
  eva: 'secretary',
  noor: 'joined last week, owns nothing yet',
}
